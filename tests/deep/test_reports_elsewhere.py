"""Reports in programs that take long to install: a spreadsheet opens the workbook, a checker of HTML reads the pages."""

from __future__ import annotations

import csv
import json
import re
import subprocess
from collections.abc import Iterator
from datetime import datetime
from email import message_from_bytes, policy
from pathlib import Path

import pytest

from tests.oracles import package_of_npm, program
from tests.support import run, write

pytestmark = pytest.mark.deep

AT = ("--at", "2026-11-24T09:00Z")
NAMES = (
    "=1+1",
    "+4",
    "@SUM(A1)",
    "-2",
    "<b>bold</b>",
    "]]>",
    "--><script>",
    "\u202erev",
    "漢字",
    '"q"',
    "x" * 500,
)


@pytest.fixture(scope="module")
def hostile(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Reports on accounts whose names mean something to spreadsheets and to HTML."""
    folder = tmp_path_factory.mktemp("tannery")
    rows = "".join(f'"{name.replace(chr(34), chr(34) * 2)}",n,2026-01-05\r\n' for name in NAMES)
    write(
        folder,
        {
            "estate.toml": 'organisation = "Tannery & <Sons>"\nclock = "UTC"\nrulebook = "b.toml"\nlogbook = "logbook"\n'
            '[source.d]\nread = "csv"\nmap = "d.toml"\nfiles = { account = "d.csv" }\n',
            "d.toml": '[account.columns]\nname = "n"\ndisplay = "n"\npassword-changed = "p"\n'
            'enabled = { from = "e", true = ["y"], false = ["n"] }\n',
            "d.csv": "n,e,p\r\n" + rows,
            "b.toml": 'title = "T <i>"\n[rule.on]\ntitle = "All are on"\nmust = "enabled"\nseverity = "high"\ntopic = "passwords"\n'
            '[rule.young]\ntitle = "Young"\nmust = "age(password-changed) <= 90d"\nseverity = "low"\ntopic = "passwords"\n',
        },
    )
    run("read", *AT, cwd=folder)
    run("judge", *AT, "--record", cwd=folder, expect=1)
    formats = ("page", "letter", "workbook", "csv")
    words = [word for name in formats for word in ("--format", name)]
    run("report", *words, "--spreadsheet", "--into", "r", cwd=folder, expect=0)
    return folder / "r"


def opened(file: Path, into: Path) -> dict[str, list[dict[str, str]]]:
    """The sheets of a file as LibreOffice reads them: texts shown as they are, dates in full."""
    asked = "csv:Text - txt - csv (StarCalc):44,34,76,1,,0,false,true,false,false,false,-1"
    words = [program("soffice"), f"-env:UserInstallation=file://{into}/profile", "--headless"]
    words += ["--convert-to", asked, "--outdir", str(into / "sheets"), str(file)]
    done = subprocess.run(words, capture_output=True, text=True, timeout=300, check=True)
    assert "rror" not in done.stdout + done.stderr, done.stdout + done.stderr
    sheets = {}
    for path in (into / "sheets").glob("*.csv"):
        with path.open(encoding="utf-8", newline="") as lines:
            sheets[path.stem] = list(csv.DictReader(lines))
    return sheets


def test_a_spreadsheet_opens_the_workbook(reports: Path, hostile: Path, tmp_path: Path) -> None:
    """Every finding is there, dates are dates, numbers numbers, and a name that looks like a formula is text."""
    sheets = opened(reports / "report.xlsx", tmp_path / "railway")
    told = [row for rows in sheets.values() for row in rows if row.get("finding")]
    assert len(told) == 295 and sum(int(row["days late"] or 0) > 0 for row in told) > 50
    dates = [row["first seen"] for row in told]
    assert min(dates) == "2026-11-03 10:00:00" and all(datetime.fromisoformat(date) for date in dates)
    names = [
        row["account"] for row in opened(hostile / "report.xlsx", tmp_path / "tannery")["report-Passwords"]
    ]
    assert {name.removeprefix("d/") for name in names} == {
        name.replace("\u202e", "\\u202e") for name in NAMES
    }


def test_a_spreadsheet_opens_the_csv_and_finds_no_formula(hostile: Path, tmp_path: Path) -> None:
    """A formula would show its value: no cell is a number that was a name."""
    (rows,) = opened(hostile / "report.csv", tmp_path).values()
    shown = {row["display"] for row in rows}
    assert not shown & {"2", "4", "-2", "0", "#NAME?", "Err:508"} and len(shown) == len(NAMES)
    assert sum("1+1" in cell for cell in shown) == 1 and sum("SUM(A1)" in cell for cell in shown) == 1


def pages(reports: Path, hostile: Path, folder: Path) -> Iterator[Path]:
    """The pages, and the HTML of the letters."""
    for whose, there in (("railway", reports), ("tannery", hostile)):
        yield write(folder, {f"{whose}.html": (there / "report.html").read_text("utf-8")}) / f"{whose}.html"
        letter = message_from_bytes((there / "report.eml").read_bytes(), policy=policy.default)
        body = letter.get_body(("html",))
        assert body is not None
        yield write(folder, {f"{whose}-letter.html": body.get_content()}) / f"{whose}-letter.html"


def test_a_checker_of_html_has_nothing_to_say(reports: Path, hostile: Path, tmp_path: Path) -> None:
    """Neither errors nor warnings, in the pages and in the letters."""
    jar = next(package_of_npm("vnu-jar@26.9.27").rglob("vnu.jar"))
    files = [str(page) for page in pages(reports, hostile, tmp_path)]
    words = [program("java"), "-Xss8m", "-jar", str(jar), "--format", "json", "--exit-zero-always", *files]
    done = subprocess.run(words, capture_output=True, text=True, timeout=300, check=True)
    messages = json.loads(done.stderr or done.stdout)["messages"]
    assert not messages, [(each["url"][-30:], each["message"], each.get("extract")) for each in messages[:5]]
    broken = Path(write(tmp_path, {"broken.html": re.sub("</main>", "", Path(files[0]).read_text("utf-8"))}))
    done = subprocess.run(
        [*words[:-4], str(broken / "broken.html")], capture_output=True, text=True, check=True
    )
    assert json.loads(done.stderr or done.stdout)["messages"], "the checker can tell"
