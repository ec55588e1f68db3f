"""Exit codes, bad requests and hostile content, through the installed program."""

from __future__ import annotations

import csv
import io
import json
import os
import subprocess
import sys
import time
from pathlib import Path

import pytest

from tests.profiles import first
from tests.support import PROGRAM, run_installed, write

ESTATE = """
organisation = "O"
clock = "UTC"
rulebook = "rulebook.toml"
[source.d]
read = "csv"
map = "map.toml"
files = { account = "accounts.csv" }
stale-after = "7d"
"""
MAP = '[account.columns]\nname = "Login"\ndisplay = "Name"\nenabled = "On"\n'
BOOK = 'title = "T"\n[rule.on]\ntitle = "Accounts are on"\nmust = "enabled"\nseverity = "medium"\n'
AT = ("--at", "2026-11-24")


def estate(folder: Path, accounts: str, **files: str) -> Path:
    return write(
        folder,
        {"estate.toml": ESTATE, "map.toml": MAP, "rulebook.toml": BOOK, "accounts.csv": accounts}
        | {name.replace("_", "."): text for name, text in files.items()},
    )


@pytest.mark.parametrize(
    ("accounts", "words", "code"),
    [
        ("Login,Name,On\na,A,yes\n", (), 0),
        ("Login,Name,On\na,A,no\n", (), 0),
        ("Login,Name,On\na,A,no\n", ("--fail-on", "medium"), 1),
        ("Login,Name,On\na,A,no\n", ("--fail-on", "low"), 1),
        ("Login,Name,On\na,A,no\n", ("--fail-on", "never"), 0),
        ("Login,Name,On\na,A,\n", ("--fail-on", "low"), 3),
        ("Login,Name,On\na,A,\n", (), 0),
        ("Login,Name,On\na,A,yes\nb\n", (), 3),
        ("Login,Name,On\na,A,no\nb\n", ("--fail-on", "low"), 1),
        ("Login,Name,On\n", (), 3),
        ("Login,Nme,On\n", (), 2),
    ],
)
def test_the_code_tells_how_it_came_out(
    tmp_path: Path, accounts: str, words: tuple[str, ...], code: int
) -> None:
    """0 nothing at or above --fail-on, 1 something is, 2 could not be done, 3 incomplete: never clean."""
    estate(tmp_path, accounts)
    run_installed("judge", *words, cwd=tmp_path, expect=code)


def test_evidence_that_is_too_old_is_incomplete(tmp_path: Path) -> None:
    """Read eight days before the instant judged at, where seven are allowed."""
    estate(tmp_path, "Login,Name,On\na,A,yes\n")
    run_installed("read", "--at", "2026-11-16", cwd=tmp_path, expect=0)
    run_installed("judge", "--at", "2026-11-23", cwd=tmp_path, expect=0)
    done = run_installed("judge", *AT, cwd=tmp_path, expect=3)
    assert "d: read 8 d before, more than 7 d" in done.stdout


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("judje",), 'there is no command "judje"; did you mean "judge"?'),
        (("judge", "--at", "tomorrow"), '"tomorrow" is no instant'),
        (("judge", "--format", "xml"), "invalid choice"),
        (("judge", "--worst", "-1"), "is no number of accounts"),
        (("judge", "--estate", "nowhere.toml"), "nowhere.toml: there is no such file"),
        (("judge", "--estate", "."), "this is a folder"),
        (("judge", "--rulebook", "nowhere.toml"), "nowhere.toml: there is no such file"),
        (("judge", "--snapshot", "."), "this is no snapshot"),
        (("judge", "--format", "csv", "--output", "no/such/folder.csv"), "cannot be written"),
        (("judge", "--format", "json", "--output", "."), "this is a folder"),
        (("show",), "the following arguments are required"),
        (("rules", "check", "map.toml"), '"title" is missing'),
        (("rules", "check", "accounts.csv"), "this is not TOML"),
        (("dictionary", "fact"), "no table"),
    ],
)
def test_what_cannot_be_done_is_said_and_ends_with_2(
    tmp_path: Path, words: tuple[str, ...], said: str
) -> None:
    """On standard error, with what to do."""
    estate(tmp_path, "Login,Name,On\na,A,yes\n")
    done = run_installed(*words, cwd=tmp_path, expect=2)
    assert said in done.stderr
    assert not done.stdout


def test_without_an_estate_the_way_to_one_is_shown(tmp_path: Path) -> None:
    """Somebody new lands here first."""
    assert "keymallet demo" in run_installed("judge", cwd=tmp_path, expect=2).stderr
    assert "usage" in run_installed(cwd=tmp_path, expect=2).stdout


def test_rules_check_shows_every_fault_with_a_caret(tmp_path: Path) -> None:
    """All at once, with the rulebook's own lines."""
    estate(tmp_path, "", rulebook_toml=BOOK.replace("enabled", "enabeld and kind = persn") + "seveirty = 1\n")
    told = run_installed("rules", "check", cwd=tmp_path, expect=2).stderr
    assert (
        'rulebook.toml:4:9  rule.on, must\n    must = "enabeld and kind = persn"\n            ^^^^^^^ an account'
        in told
    )
    assert "3 faults" in told


HOSTILE = 'Login,Name,On\n"e\x1b[31mvil\u202e","=1+1",no\nb,"a\x07\nb",no\n'


def test_hostile_names_are_shown_escaped_and_written_exactly(tmp_path: Path) -> None:
    """Never raw to the terminal; intact in JSON; defused in CSV only where a spreadsheet is meant."""
    estate(tmp_path, HOSTILE)
    for words in (("judge",), ("show", "e\x1b[31mvil\u202e"), ("read",), ("show", "nobody\x1b]0;x\x07")):
        done = run_installed(*words, cwd=tmp_path)
        told = done.stdout + done.stderr
        assert not set(told) & set("\x1b\x07\u202e"), words
        assert "\\x1b" in told or words == ("read",)
    found = json.loads(run_installed("judge", "--format", "json", cwd=tmp_path).stdout)["findings"]
    assert [(row["account"], row["display"]) for row in found] == [
        ("d/e\x1b[31mvil\u202e", "=1+1"),
        ("d/b", "a\x07\nb"),
    ]
    for command in (("judge",), ("who", "not enabled", "--columns", "display")):
        for words, display, mark in (((), "=1+1", ""), (("--spreadsheet",), "'=1+1", "\ufeff")):
            text = run_installed(*command, "--format", "csv", *words, cwd=tmp_path).stdout
            assert text.startswith(mark) and text.count("\ufeff") == len(mark)
            rows = csv.DictReader(io.StringIO(text.removeprefix("\ufeff"), newline=""))
            assert next(rows)["display"] == display


def test_findings_go_to_a_file_with_the_run_beside_it(tmp_path: Path) -> None:
    """Written whole; the run is told in a file of its own where the format has no place for it."""
    estate(tmp_path, "Login,Name,On\na,A,no\n")
    run_installed("judge", "--format", "jsonl", "--output", "f.jsonl", cwd=tmp_path, expect=0)
    assert json.loads((tmp_path / "f.jsonl").read_text())["account"] == "d/a"
    assert json.loads((tmp_path / "f.jsonl.run.json").read_text())["rulebook"]["title"] == "T"
    run_installed("judge", "--output", "summary.txt", cwd=tmp_path, expect=0)
    assert "Accounts are on" in (tmp_path / "summary.txt").read_text()


def test_a_snapshot_can_be_judged_on_its_own(tmp_path: Path) -> None:
    """With a rulebook and without the estate it came from."""
    estate(tmp_path, "Login,Name,On\na,A,no\n")
    run_installed("read", *AT, cwd=tmp_path, expect=0)
    (tmp_path / "estate.toml").unlink()
    words = ("--snapshot", "snapshots/2026-11-24T000000Z", "--rulebook", "rulebook.toml")
    run_installed("judge", *words, "--fail-on", "low", cwd=tmp_path, expect=1)
    assert "O, judged at" in run_installed("judge", *words, cwd=tmp_path).stdout


def test_a_reader_that_goes_away_is_no_fault(tmp_path: Path) -> None:
    """`keymallet judge | head` ends in silence."""
    estate(tmp_path, "Login,Name,On\n" + "".join(f"a{number},A,no\n" for number in range(20_000)))
    done = subprocess.run(
        f"{PROGRAM} judge --format csv | head -1",
        shell=True,
        cwd=tmp_path,
        capture_output=True,
        text=True,
        check=True,
    )
    assert done.stdout.startswith("rule,")
    assert done.stderr == ""


FAULT = """
import sys
import keymallet.commands.main as main
def fault(*words):
    raise {fault}
main._module_of = fault
sys.argv = ["keymallet", "judge", "--at", "2026-01-01"]
main.entry()
"""


@pytest.mark.parametrize(
    ("fault", "told"),
    [
        ("KeyError('hunter2')", "a fault of keymallet itself"),
        ("MemoryError()", "not enough memory"),
        ("OSError(28, 'No space left on device')", "nothing more can be written"),
        ("RecursionError()", "a fault of keymallet itself"),
    ],
)
def test_a_fault_of_the_program_is_no_breach(tmp_path: Path, fault: str, told: str) -> None:
    """Code 2, one sentence, and a report without any value in it: never the code of a breach."""
    done = subprocess.run(
        [sys.executable, "-c", FAULT.format(fault=fault)],
        capture_output=True,
        text=True,
        check=False,
        env={**os.environ, "TMPDIR": str(tmp_path)},
    )
    assert done.returncode == 2 and done.stdout == ""
    assert told in done.stderr and len(done.stderr.splitlines()) == 1
    reports = list(tmp_path.glob("keymallet-fault-*.txt"))
    assert len(reports) == told.startswith("a fault")
    for report in reports:
        text = report.read_text("utf-8")
        assert "commands/main.py" in text and "hunter2" not in text
        assert report.stat().st_mode & 0o777 == 0o600


@pytest.mark.parametrize(
    ("redirected", "told"),
    [(">&-", "standard output is closed"), (">/dev/full", "No space left on device")],
)
@pytest.mark.parametrize("command", ["judge", "judge --format csv", "dictionary", "rules show"])
def test_an_output_that_takes_nothing_is_no_breach(
    tmp_path: Path, command: str, redirected: str, told: str
) -> None:
    """Closed, or on a full disk: code 2 and a sentence."""
    estate(tmp_path, "Login,Name,On\na,A,no\n")
    done = subprocess.run(
        f"{PROGRAM} {command} {redirected}",
        shell=True,
        cwd=tmp_path,
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 2, done.stderr
    assert told in done.stderr and "Traceback" not in done.stderr


@pytest.mark.parametrize("form", ["csv", "json", "jsonl"])
def test_a_disk_that_fills_while_findings_are_written_leaves_what_was_there(
    tmp_path: Path, form: str
) -> None:
    """They are written as they are found: the file of the last time stands until all are there."""
    estate(tmp_path, "Login,Name,On\n" + "".join(f"{'a' * 60}{n},A,no\n" for n in range(900)))
    run_installed("read", cwd=tmp_path, expect=0)
    (tmp_path / "out").write_text("of last time")
    before = {path.name for path in tmp_path.iterdir()}
    words = f"judge --fail-on never --format {form} --output out"
    done = subprocess.run(
        ["bash", "-c", f"ulimit -f 32; {PROGRAM} {words}"],
        cwd=tmp_path,
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 2 and "cannot be written" in done.stderr, done.stderr
    assert (tmp_path / "out").read_text() == "of last time"
    assert {path.name for path in tmp_path.iterdir()} == before


def test_a_terminal_that_knows_only_ascii_is_written_to(tmp_path: Path) -> None:
    """What it cannot show is escaped; nothing ends early for it."""
    estate(tmp_path, "Login,Name,On\na,Zoë,no\n")
    for words in (("--help",), ("judge", "--help"), ("judge",), ("show", "a")):
        done = run_installed(*words, cwd=tmp_path, PYTHONIOENCODING="ascii", PYTHONUTF8="0")
        assert done.returncode in (0, 1), done.stderr
        assert done.stdout.isascii() and done.stdout.strip()


def test_written_files_are_the_owners_alone_and_keep_what_they_are(tmp_path: Path) -> None:
    """A new file is 0600; one that is there keeps its mode; of a link the target; a device is written to."""
    estate(tmp_path, "Login,Name,On\na,A,no\n")
    run_installed("judge", "--format", "csv", "--output", "new.csv", cwd=tmp_path, expect=0)
    assert (tmp_path / "new.csv").stat().st_mode & 0o777 == 0o600
    (tmp_path / "kept.csv").write_text("")
    (tmp_path / "kept.csv").chmod(0o644)
    (tmp_path / "link.csv").symlink_to("kept.csv")
    run_installed("judge", "--format", "csv", "--output", "link.csv", cwd=tmp_path, expect=0)
    assert (tmp_path / "link.csv").is_symlink() and (tmp_path / "kept.csv").stat().st_mode & 0o777 == 0o644
    assert "d/a" in (tmp_path / "kept.csv").read_text()
    # A name that could be guessed might lead elsewhere.
    (tmp_path / "victim").write_text("mine")
    for planted in (".out.csv.unfinished", ".out.csv.tmp"):
        (tmp_path / planted).symlink_to("victim")
    run_installed("who", "enabled", "--format", "csv", "--output", "out.csv", cwd=tmp_path, expect=0)
    assert (tmp_path / "victim").read_text() == "mine"
    done = run_installed(
        "who", "not enabled", "--format", "csv", "--output", "/dev/stdout", cwd=tmp_path, expect=0
    )
    assert "d/a" in done.stdout and Path("/dev/null").is_char_device()
    run_installed("who", "enabled", "--format", "csv", "--output", "/dev/null", cwd=tmp_path, expect=0)
    assert Path("/dev/null").is_char_device()


@pytest.mark.parametrize("kind", first(2, ["rulebook", "estate", "map", "register"]))
def test_a_pipe_a_device_or_a_giant_is_no_configuration(tmp_path: Path, kind: str) -> None:
    """Refused at once, instead of being waited for or read without end."""
    estate(tmp_path, "Login,Name,On\na,A,yes\n")
    run_installed("read", cwd=tmp_path, expect=0)
    file = (
        tmp_path
        / {"rulebook": "rulebook.toml", "map": "map.toml", "register": "reg.toml", "estate": "estate.toml"}[
            kind
        ]
    )
    words = (
        ("read",) if kind == "map" else ("judge", *(("--register", "reg.toml") if kind == "register" else ()))
    )
    file.unlink(missing_ok=True)
    os.mkfifo(file)
    assert "this is a pipe or a device" in run_installed(*words, cwd=tmp_path, expect=2).stderr
    file.unlink()
    file.symlink_to("/dev/zero")
    assert "this is a pipe or a device" in run_installed(*words, cwd=tmp_path, expect=2).stderr
    file.unlink()
    with file.open("wb") as giant:
        giant.truncate(10_000_001)
    assert "10,000,001 bytes" in run_installed(*words, cwd=tmp_path, expect=2).stderr


@pytest.mark.deep
def test_work_on_a_rulebook_is_bounded(tmp_path: Path) -> None:
    """A thousand members cost a thousand times one; what would double with each term is refused."""
    estate(tmp_path, "Login,Name,On\na,A,no\n")
    run_installed("read", cwd=tmp_path, expect=0)
    rule = 'title = "T"\n{}[rule.r]\ntitle = "R"\nseverity = "high"\nmust = "{}"\n'

    def judged(terms: str, must: str, expect: int) -> str:
        (tmp_path / "rulebook.toml").write_text(rule.format(terms, must))
        start = time.monotonic()
        done = run_installed("judge", "--format", "csv", cwd=tmp_path, expect=expect)
        assert time.monotonic() - start < 60, (
            "what doubles would take years; a busy machine takes some seconds"
        )
        return done.stdout + done.stderr

    judged("", " and ".join(["enabled"] * 1000), 1)
    told = judged("", " and ".join(f"length(name) > {1000 + number}" for number in range(700)), 1)
    assert "676 more" in told
    doubling = "".join(f't{n} = "t{n - 1} and (locked or not t{n - 1})"\n' for n in range(1, 40))
    told = judged(f'[terms]\nt0 = "enabled"\n{doubling}', "t39", 2)
    assert "works out to more than 20,000 parts" in told
    told = judged("[limits]\n" + "".join(f"l{n} = 1\n" for n in range(20_000)), "enabled", 2)
    assert "more than 10,000 limits" in told


def test_what_is_no_toml_is_shown_with_its_own_line(tmp_path: Path) -> None:
    """The line that is wrong, and no other."""
    estate(tmp_path, "Login,Name,On\na,A,no\n", rulebook_toml='title = "T"\nthis is no toml\n# after\n')
    told = run_installed("rules", "check", cwd=tmp_path, expect=2).stderr
    assert "rulebook.toml:2:" in told and "    this is no toml\n" in told
    assert 'title = "T"' not in told and "# after" not in told
