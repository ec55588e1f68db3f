"""The README's recipes: a toy is added exactly as each says, and the program is driven with it.

Each test edits a copy of the source. What it edits is what the recipe names, and nothing else: if an
addition needs a second place, its test fails.
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.support import AT, write

ROOT = Path(__file__).parent.parent
ESTATE = """
organisation = "O"
clock = "UTC"
rulebook = "rules.toml"
[source.directory]
"""
RULES = """
title = "T"
[rule.r]
title = "R"
severity = "high"
must = "enabled"
"""
EXPORT = {
    "estate.toml": ESTATE + 'read = "csv"\nmap = "map.toml"\nfiles = { account = "a.csv" }\n',
    "rules.toml": RULES,
    "map.toml": '[account.columns]\nname = "login"\nenabled = "on"\ntitle = "job"\n',
    "a.csv": "login,on,job\nada,yes,smith\nbo,no,baker\n",
}

Program = Callable[..., str]


@pytest.fixture
def source(tmp_path: Path) -> Path:
    """A copy of the package's source."""
    return Path(shutil.copytree(ROOT / "src/keymallet", tmp_path / "src/keymallet"))


@pytest.fixture
def program(source: Path, tmp_path: Path) -> Program:
    """Runs the program of the copied source in a folder with an estate."""
    estate = tmp_path / "estate"

    def run(*words: str, code: int = 0) -> str:
        done = subprocess.run(
            [sys.executable, "-m", "keymallet", *words],
            cwd=estate,
            env={**os.environ, "PYTHONPATH": str(source.parent), "COLUMNS": "100"},
            capture_output=True,
            text=True,
            check=False,
        )
        assert done.returncode == code, done.stdout + done.stderr
        return done.stdout

    write(estate, EXPORT)
    return run


def insert(path: Path, after: str, text: str) -> None:
    """Put text after a line that stands once in a file."""
    before = path.read_text("utf-8")
    assert before.count(after) == 1, f"{after!r} stands {before.count(after)} times in {path}"
    path.write_text(before.replace(after, after + text), "utf-8")


def readme_says(*words: str) -> None:
    """The recipe names the places that the test edits."""
    text = (ROOT / "README.md").read_text("utf-8")
    assert not [word for word in words if word not in text]


def test_a_new_output_format(source: Path, program: Program) -> None:
    """A module with two functions, and a row: option, help and every command that gives rows follow."""
    readme_says("outputs/formats.py", "around(columns, rows)", "encode(part, spreadsheet)")
    (source / "outputs/tab_separated.py").write_text(
        "import polars as pl\n\n"
        "from keymallet.outputs.values import Around, in_text\n\n\n"
        "def around(columns, rows):\n"
        "    return Around('\\t'.join(columns.columns).encode() + b'\\n')\n\n\n"
        "def encode(part, *, spreadsheet):\n"
        "    flat = in_text(part).with_columns(pl.col(pl.List(pl.String)).list.join(','))\n"
        "    return flat.write_csv(separator='\\t', include_header=False).encode()\n"
    )
    row = '    "tsv": Format("values between tabs", "keymallet.outputs.tab_separated"),\n'
    insert(source / "outputs/formats.py", "FORMATS: dict[str, Format] = {\n", row)
    assert "values between tabs" in " ".join(program("judge", "--help").split())
    program("read")
    assert program("who", "enabled", "--columns", "title", "--format", "tsv").splitlines() == [
        "account\ttitle",
        "directory/ada\tsmith",
    ]
    assert program("judge", "--format", "tsv", code=1).startswith("rule\ttitle\tseverity")


def test_a_new_report(source: Path, program: Program, tmp_path: Path) -> None:
    """A module with a function, and a row: option, help, list and the narrowing follow."""
    readme_says("reports/registry.py", "write(content, look)")
    (source / "reports/roll_of_shame.py").write_text(
        "from keymallet.reports.content import who\n\n\n"
        "def write(content, look):\n"
        "    rows = content.findings.iter_rows(named=True)\n"
        "    return ''.join(f'{who(row)}\\n' for row in rows).encode()\n"
    )
    row = '    "roll": ReportFormat("the board in the hall", ".roll", "keymallet.reports.roll_of_shame"),\n'
    insert(source / "reports/registry.py", "REPORTS: dict[str, ReportFormat] = {\n", row)
    logbook = EXPORT["estate.toml"].replace('clock = "UTC"', 'clock = "UTC"\nlogbook = "logbook"')
    write(tmp_path / "estate", {"estate.toml": logbook})
    program("read")
    program("judge", code=1)
    assert "the board in the hall" in program("report", "--list")
    program("report", "--format", "roll", "--each", "source", "--into", "out")
    assert (tmp_path / "estate/out/directory.roll").read_text("utf-8") == "directory/bo\n"


def test_a_new_fact(source: Path, program: Program, tmp_path: Path) -> None:
    """A row: it can be mapped, read, asked about, shown and listed."""
    readme_says("core/facts/tables")
    row = '    text("badge", "the number on its holder\'s badge", said="badge {}"),\n'
    title = '    text("title", "the job it is held for", said="job title {} / no job title on record"),\n'
    insert(source / "core/facts/tables/account_holders.py", title, row)
    write(tmp_path / "estate", {"map.toml": EXPORT["map.toml"].replace("title =", "badge =")})
    program("read")
    assert "the number on its holder's badge" in program("dictionary", "account")
    assert "smith" in program("who", "badge = 'smith'")
    assert "smith" in program("show", "ada", "--all")
    record = json.loads(program("who", "badge is known", "--columns", "badge", "--format", "json"))
    assert [row["badge"] for row in record["rows"]] == ["smith", "baker"]


def test_a_new_function_of_the_language(source: Path, program: Program) -> None:
    """A row: it is checked, worked out and listed."""
    readme_says("core/language/functions.py")
    row = """        Function(
            "initial",
            (Kind.TEXT,),
            TEXT,
            "the first letter of a text",
            lambda of: of.value.str.slice(0, 1),
            "initial(name) = 'a'",
        ),
"""
    insert(source / "core/language/functions.py", "    for function in (\n", row)
    program("read")
    assert "1 of 2 accounts" in program("who", "initial(name) = 'a'")
    assert "the first letter of a text" in program("dictionary")


def test_a_new_source(source: Path, program: Program, tmp_path: Path) -> None:
    """A module, the shape of its section and a row; what all sections share is there by itself."""
    readme_says("sources/sections.py", "read(section, request)", "READERS")
    (source / "sources/roll_call.py").write_text(
        '"""A list of names, one a line."""\n\n'
        "import polars as pl\n\n"
        "from keymallet.core.facts.reading import Reading\n\n\n"
        "def read(section, request):\n"
        "    reading = Reading(request.name)\n"
        "    names = request.bytes_of(section.file, reading).decode().split()\n"
        '    reading.tables["account"] = pl.DataFrame({"name": names, "enabled": [True] * len(names)})\n'
        '    reading.supply["account"] = dict.fromkeys(["name", "enabled"], section.file)\n'
        '    reading.table_intake("account").read = len(names)\n'
        "    return [reading]\n"
    )
    sections = source / "sources/sections.py"
    section = '''class RollCallSection(SourceSection, rename="kebab", frozen=True, kw_only=True):
    """A list of names."""

    file: str


'''
    text = sections.read_text("utf-8")
    sections.write_text(
        text.replace(
            "@dataclass(frozen=True, slots=True)\nclass Reader",
            section + "@dataclass(frozen=True, slots=True)\nclass Reader",
        )
    )
    insert(
        sections,
        "READERS: dict[str, Reader] = {\n",
        '    "roll-call": Reader(RollCallSection, "keymallet.sources.roll_call"),\n',
    )
    estate = ESTATE + 'read = "roll-call"\nfile = "names.txt"\nstale-after = "1d"\nwithin = "1min"\n'
    write(tmp_path / "estate", {"estate.toml": estate, "names.txt": "ada bo cy"})
    assert "3 accounts" in program("read", "--at", f"{AT:%Y-%m-%dT%H:%MZ}")
    program("judge", "--at", f"{AT:%Y-%m-%dT%H:%MZ}")
    late = program("judge", "--at", "2026-12-24", code=3)
    assert "directory: read" in late and "more than 1 d" in late


def test_a_new_word_of_exports(source: Path, program: Program, tmp_path: Path) -> None:
    """A word in the vocabulary: `fit` knows the header."""
    readme_says("fitting/vocabulary.toml")
    vocabulary = source / "fitting/vocabulary.toml"
    text = vocabulary.read_text("utf-8")
    assert 'job = "job, title' in text
    vocabulary.write_text(text.replace('job = "job, title', 'job = "zzwork, job, title'), "utf-8")
    write(tmp_path / "estate", {"b.csv": "Login,Active,Zzwork\nada,yes,smith\nbo,no,baker\n"})
    (line,) = [line for line in program("fit", "b.csv").splitlines() if "Zzwork" in line]
    assert "title" in line
