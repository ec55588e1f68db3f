"""The installed program on the railway's estate, from reading files to the code it ends with."""

from __future__ import annotations

import csv
import importlib
import io
import json
import re
import shlex
import shutil
from datetime import datetime
from pathlib import Path

import polars as pl
import pytest

from keymallet.commands.demo import SCREEN
from keymallet.commands.parsers import COMMANDS
from keymallet.core.explaining.findings import besides, on_numbers, on_people, on_register, on_systems
from keymallet.core.explaining.reason_templates import TEMPLATES
from keymallet.core.judging.judge import judge
from keymallet.core.rulebook.reading import read_rulebook
from keymallet.core.rulebook.register import read_register
from keymallet.demo.railway import REFUSED, write_estate
from keymallet.sources.rulebooks import open_included
from tests.conftest import RAILWAY_AT
from tests.support import CLOCK, newest, rule, run, run_installed, write

AT = ("--at", RAILWAY_AT)


def found_in(folder: Path, *words: str) -> list[dict[str, str]]:
    done = run_installed("judge", *AT, "--format", "csv", *words, cwd=folder, expect=1)
    return list(csv.DictReader(io.StringIO(done.stdout, newline="")))


def test_everything_planted_is_found_and_nothing_else(railway_snapshot: Path) -> None:
    """The ground truth and the breaches, both ways; every rule of the book breaks somewhere."""
    told = list(csv.DictReader((railway_snapshot / "ground-truth.csv").open(encoding="utf-8")))
    planted = {(row["rule"], row["account"], row["subject"], row["verdict"]) for row in told}
    counted = {"breach": "breach", "pending": "breach", "exempt": "exempt"}
    found = {
        (row["rule"], row["account"], row["subject"], counted[row["verdict"]])
        for row in found_in(railway_snapshot)
        if row["verdict"] in counted
    }
    assert found - planted == set()
    assert planted - found == set()
    done = run_installed("judge", *AT, "--format", "json", cwd=railway_snapshot)
    assert {count["rule"] for count in json.loads(done.stdout)["rules"]} == {rule for rule, *_ in planted}


def test_what_cannot_be_read_is_counted(railway_snapshot: Path) -> None:
    """Two ragged lines of the export and a cut line of shadow; each told with its line."""
    snapshot = newest(railway_snapshot)
    refused = {
        name: sum(each.refused for each in source.intake.values())
        for name, source in snapshot.manifest.sources.items()
    }
    assert {name: number for name, number in refused.items() if number} == REFUSED
    shown = " ".join(run_installed("judge", "--all", *AT, cwd=railway_snapshot).stdout.split())
    assert "refused 2 (exports/accounts.csv line 18: 6 cells where the header has 27;" in shown
    assert "hosts/tix-2/etc/shadow line 26: 2 fields where 9 are needed" in shown
    assert "incomplete: ticketing/tix-2: 1 record refused" in shown


def test_the_same_estate_gives_the_same_snapshot(railway_snapshot: Path, tmp_path: Path) -> None:
    """The same bytes give the same tables in the same order."""
    write_estate(tmp_path)
    run_installed("read", *AT, cwd=tmp_path, expect=3)
    first, second = (newest(folder).manifest for folder in (railway_snapshot, tmp_path))
    assert first.tables == second.tables and first.sources == second.sources


def test_no_password_hash_leaves_the_reader(railway: Path) -> None:
    """Neither in any table of the snapshot nor in any output."""
    lines = [line for path in railway.glob("hosts/*/etc/shadow") for line in path.read_text().splitlines()]
    hashes = {line.split(":")[1].lstrip("!") for line in lines}
    hashes = {secret for secret in hashes if len(secret) > 12}
    assert len(hashes) > 20
    snapshot = newest(railway)
    texts = [(snapshot.folder / "manifest.json").read_text()]
    for name in snapshot.manifest.tables:
        texts.append(pl.read_parquet(snapshot.folder / f"{name}.parquet").write_json())
    for form in ("table", "csv", "json"):
        texts.append(run_installed("judge", *AT, "--format", form, cwd=railway).stdout)
    with_hash = next(line.split(":")[0] for line in lines if "$1$" in line)
    texts.append(run_installed("show", f"ticketing/tix-1/{with_hash}", *AT, cwd=railway, expect=0).stdout)
    texts.append(run_installed("read", *AT, cwd=railway).stdout)
    assert "md5" in "".join(texts)
    assert not [secret for secret in hashes if any(secret in text for text in texts)]


@pytest.mark.parametrize(
    "command",
    [
        pytest.param(name, marks=pytest.mark.deep)
        if name in ("report", "show", "rehearse", "mend", "vet")
        else name
        for name in COMMANDS
    ],
)
def test_every_command_has_help_with_examples_that_run(command: str, railway: Path) -> None:
    """The examples are run on the railway's estate just as they stand; those that take longest, in deep runs."""
    module = importlib.import_module(f"keymallet.commands.arguments.{command}")
    told = run_installed(command, "--help", cwd=railway, expect=0).stdout
    assert len(module.EXAMPLES) >= 2
    if command == "mend":
        run("read", cwd=railway)  # nothing is changed by evidence as old as the railway's
    for example, purpose in module.EXAMPLES:
        assert example in told and purpose in told
        if (
            command in ("demo", "start") or "rules try" in example
        ):  # they take long, and have tests of their own
            continue
        done = run(*shlex.split(re.sub(r" > \S+$", "", example))[1:], cwd=railway)
        assert done.returncode in (0, 1, 3), (example, done.stderr)
        assert done.stdout or "--output" in example
    assert run_installed("--help", cwd=railway, expect=0).stdout.count(COMMANDS[command]) == 1


@pytest.mark.parametrize("command", ["read", "judge", "show root", "rules check", "dictionary"])
def test_output_fits_100_columns_and_has_no_colour_when_piped(command: str, railway: Path) -> None:
    """Quiet when it is not a terminal that reads it."""
    done = run_installed(
        *command.split(), *(() if command in ("rules check", "dictionary") else AT), cwd=railway
    )
    assert "\x1b" not in done.stdout
    assert max(map(len, done.stdout.splitlines())) <= 100


def demo_tells(told: str, there: Path, runs: int) -> None:
    """Each command it runs, with the first screen of what that says; the day ends with the page and one letter."""
    planted = (there / "ground-truth.csv").read_text("utf-8").splitlines()[1:]
    exempt = sum(line.endswith(",exempt") for line in planted)
    assert f"{len(planted) - 1 - exempt} breaches, 1 pending, {exempt} exempt" in told
    assert f"{runs} runs from 2026-11-03 to 2026-11-24" in told
    parts = re.split(r"\n\$ keymallet |\n  To: ", told)[1:]
    assert all(len(part.splitlines()) <= SCREEN + 5 for part in parts)
    assert "  reports/report.html  295 findings" in told
    assert parts[-1].startswith("Vera Arvbichler <v.arvbichler@gvr.example>\n  Subject: 10 findings to mend")


@pytest.mark.deep
def test_the_demo_may_be_run_again(four_weeks: Path, tmp_path: Path) -> None:
    """What its own estate has stays."""
    shutil.copytree(four_weeks / "there", tmp_path / "there")
    again = run_installed("demo", "there", cwd=tmp_path, expect=0).stdout
    demo_tells(again, tmp_path / "there", 5)
    assert "Tuesday " not in again


def test_the_demo_tells_the_fourth_morning(four_weeks: Path, tmp_path: Path) -> None:
    """Over anything that is not its own it never writes."""
    first = (four_weeks / "told.txt").read_text("utf-8")
    demo_tells(first, four_weeks / "there", 4)
    assert first.count("Tuesday ") == 3
    (tmp_path / "mine").mkdir()
    (tmp_path / "mine" / "thesis.txt").write_text("years of work")
    done = run_installed("demo", "mine", cwd=tmp_path, expect=2)
    assert "something else is here already" in done.stderr
    (tmp_path / "file").write_text("")
    run_installed("demo", "file", cwd=tmp_path, expect=2)


def test_show_tells_all_of_an_account(railway_snapshot: Path) -> None:
    """Facts with their sources, dates in order, rows, each verdict and why."""
    told = run_installed("show", "--all", "directory/emergency-2", *AT, cwd=railway_snapshot, expect=0).stdout
    assert 'exports/accounts.csv, "Status"' in told
    assert told.index("created") < told.index("password-changed") < told.index("judged at")
    assert "hold a phishing-resistant factor of their" in told
    assert "no active phishing-resistant factor; registered: code app" in " ".join(told.split())
    assert "not supplied by directory: owner" in told
    host = run_installed("show", "--all", "ticketing/tix-1/toor", *AT, cwd=railway_snapshot, expect=0).stdout
    assert "login name toor; required: root" in host


def test_show_answers_whether_somebody_gets_in(railway_snapshot: Path) -> None:
    """Every way on a line of its own, with what bars it and until when; the person's other accounts."""

    def told(name: str) -> str:
        return " ".join(
            run_installed("show", "--all", name, *AT, cwd=railway_snapshot, expect=0).stdout.split()
        )

    locked = told("ticketing/tix-1/i.schneetaler")
    assert "the same person: directory/i.schneetaler" in locked
    others = locked.partition("the same person: ")[2].partition("gets in")[0]
    assert "cloud/i.schneetaler" in others and "ticketing/tix-1/i.schneetaler" not in others
    assert "gets in: 1 way open, 2 barred" in locked
    assert "open SSH key SHA256:" in locked
    assert "password at the console: locked after failed sign-ins since 2026-11-24 09:50, until" in locked
    assert "the system takes no password there" in locked
    ended = told("ticketing/tix-3/o.glimkogler")
    assert "does not get in: 3 ways barred" in ended and "the account ended 2026-11-04" in ended
    guest = told("tmp-audit")
    assert "until 2026-12-24 00:00: the key ends" in guest and "from 192.0.2.0/24" in guest
    assert "ssh-certificate SHA256:aroCEZuu5" in told("ticketing/tix-3/p.glimbichler")


def test_keys_that_were_not_brought_along_are_not_known(tmp_path: Path) -> None:
    """One home is elsewhere: its account's keys are unknown in what is shown and in what is judged."""
    estate = '[source.vm]\nread = "host"\nfolder = "vm"\nkinds = { "*" = "person" }\n'
    passwd = "far:x:1000:1::/net/far:/bin/sh\nnear:x:1001:1::/home/near:/bin/sh\n"
    files = {
        "estate.toml": f'organisation = "O"\nclock = "UTC"\nrulebook = "r.toml"\n{estate}',
        "r.toml": 'title = "R"\n' + rule("no key"),
        "vm/etc/passwd": passwd,
        "vm/home/near/x": "",
    }
    write(tmp_path, files)
    run_installed("read", cwd=tmp_path, expect=0)
    found = list(csv.DictReader(io.StringIO(run_installed("judge", "--format", "csv", cwd=tmp_path).stdout)))
    assert [(row["account"], row["verdict"]) for row in found] == [("vm/far", "unproven")]
    shown = run_installed("show", "--all", "far", cwd=tmp_path, expect=0).stdout
    assert "keys: not known for this account" in shown
    assert "unknown   a key: not known" in shown


def test_what_a_system_has_in_force_is_judged_as_well(railway_snapshot: Path) -> None:
    """Findings on settings name the source; the summary shows the systems that fall short."""
    found = [row for row in found_in(railway_snapshot) if row["rule"].startswith("setting-")]
    assert {(row["account"], row["subject"]) for row in found} == {
        ("ticketing/tix-2", "host rules"),
        ("directory", "Emergency"),
    }
    assert "shortest password allowed: 8 characters; minimum 12" in {row["because"] for row in found}
    shown = run_installed("judge", "--all", *AT, cwd=railway_snapshot, expect=1).stdout
    systems = shown[shown.index("systems whose settings fall short") :]
    assert systems.splitlines()[1] == "ticketing/tix-2"


def test_show_finds_accounts_by_what_people_call_them(railway_snapshot: Path) -> None:
    """A name in several sources shows each; one that is not there suggests the nearest."""
    told = run_installed("show", "--all", "root", *AT, cwd=railway_snapshot, expect=0).stdout
    assert [line for line in told.splitlines() if line.endswith("/root")] == [
        f"ticketing/tix-{n}/root" for n in (1, 2, 3)
    ]
    assert (
        "directory/emergency-2"
        in run_installed(
            "show", "--all", "EMERGENCY-2@gvr.example", *AT, cwd=railway_snapshot, expect=0
        ).stdout
    )
    done = run_installed("show", "emergncy-2", *AT, cwd=railway_snapshot, expect=2)
    assert 'no account "emergncy-2"' in done.stderr and "did you mean directory/emergency-2" in done.stderr


def test_facts_prints_the_one_declaration(railway_snapshot: Path) -> None:
    """As a table, as JSON and as CSV, whole or one table."""
    assert (
        "unless the source says so itself"
        in run_installed("dictionary", "factor", cwd=railway_snapshot, expect=0).stdout
    )
    whole = json.loads(run_installed("dictionary", "--format", "json", cwd=railway_snapshot, expect=0).stdout)
    rows = list(
        csv.DictReader(
            io.StringIO(run_installed("dictionary", "--format", "csv", cwd=railway_snapshot, expect=0).stdout)
        )
    )
    assert len(whole["columns"]) == len(rows) > 100
    assert 'did you mean "key"?' in run_installed("dictionary", "keys", cwd=railway_snapshot, expect=2).stderr


def test_json_carries_reasons_as_templates_beside_their_text(railway_snapshot: Path) -> None:
    """Every breach of a rule has both; a table of values has the text alone."""
    lines = run_installed(
        "judge", *AT, "--format", "jsonl", cwd=railway_snapshot, expect=1
    ).stdout.splitlines()
    found = [json.loads(line) for line in lines]
    told = [finding for finding in found if finding["verdict"] in ("breach", "exempt") and finding["account"]]
    assert len(told) > 250
    for finding in told:
        assert finding["because"] and finding["reasons"], finding
        assert {reason["template"] for reason in finding["reasons"]} <= set(TEMPLATES)
        assert all(reason["about"] for reason in finding["reasons"])
    (length,) = [each for each in found if each["rule"] == "setting-password-length"]
    assert [(each["template"], each["found"], each["required"]) for each in length["reasons"]] == [
        ("minimum", "8", "12")
    ]
    header = run_installed(
        "judge", *AT, "--format", "csv", cwd=railway_snapshot, expect=1
    ).stdout.splitlines()[0]
    assert "because" in header and "reasons" not in header


def test_what_is_only_counted_is_what_would_be_described(railway_snapshot: Path) -> None:
    """People, systems, entries of the register and counts: the first screen tells how many, --all which."""
    book = read_rulebook(
        (railway_snapshot / "rulebook.toml").read_text("utf-8"), "rulebook.toml", open_included
    )
    register = read_register(
        (railway_snapshot / "exemptions.toml").read_text("utf-8"), "exemptions.toml", CLOCK
    )
    found = judge(
        newest(railway_snapshot).evidence(), book, datetime.fromisoformat(RAILWAY_AT), CLOCK, register
    )
    assert besides(found) == (
        on_people(found)["subject"].n_unique(),
        on_systems(found)["account"].n_unique(),
        on_register(found)["subject"].n_unique(),
        on_numbers(found)["rule"].n_unique(),
    )
    assert all(besides(found))
