"""Nothing found is not the same as clean: every gap in the evidence is told, and ends with 3."""

from __future__ import annotations

import csv
import json
import shutil
from pathlib import Path
from typing import Any

import pytest

from tests.support import newest, run, write

ESTATE = """
organisation = "Larch Clinic"
clock = "UTC"
rulebook = "rulebook.toml"
[source.wards]
read = "csv"
map = "map.toml"
files = { account = "accounts.csv", factor = "factors.csv" }
"""
MAP = """
[account.columns]
name = "Login"
mail = "Mail"
password-changed = "Set"
[factor.columns]
account = "Of"
kind = "What"
state = { always = "active" }
"""
BOOK = """
title = "Larch"
[rule.fresh]
title = "Passwords are fresh"
must = "age(password-changed) <= 90d"
severity = "high"
[rule.second]
title = "There is a second factor"
must = "some factor (kind = otp)"
severity = "high"
"""
ACCOUNTS = "Login,Mail,Set\nanna,a@larch.example,2026-11-01\nben,b@larch.example,2026-11-02\n"
FACTORS = "Of,What\nanna,otp\nben,otp\n"
AT = ("--at", "2026-11-24T09:00Z")


@pytest.fixture
def clinic(tmp_path: Path) -> Path:
    """An estate in which all is well, read once."""
    write(
        tmp_path,
        {
            "estate.toml": ESTATE,
            "map.toml": MAP,
            "rulebook.toml": BOOK,
            "accounts.csv": ACCOUNTS,
            "factors.csv": FACTORS,
        },
    )
    run("read", *AT, cwd=tmp_path, expect=0)
    run("judge", *AT, cwd=tmp_path, expect=0)
    return tmp_path


def gaps(folder: Path, *words: str, expect: int = 3) -> dict[str, list[str]]:
    """The gaps of a judging by their kind, from the JSON output."""
    words = words or AT
    told = json.loads(run("judge", *words, "--format", "json", cwd=folder, expect=expect).stdout)
    assert all({"gap", "about", "text"} == gap.keys() for gap in told["gaps"])
    return _by_kind(told["gaps"])


def _by_kind(told: list[dict[str, Any]]) -> dict[str, list[str]]:
    kinds: dict[str, list[str]] = {}
    for gap in told:
        kinds.setdefault(gap["gap"], []).append(gap["text"])
    return kinds


def test_a_header_and_no_row(clinic: Path) -> None:
    """Of a table beside the accounts; an empty list of accounts is asked about as a drop."""
    write(clinic, {"factors.csv": "Of,What\n"})
    run("read", *AT, cwd=clinic, expect=3)
    found = gaps(clinic, expect=1)
    assert found["no-rows"] == ["wards: factors.csv holds no row of factor"]
    assert found["emptied"] == ["wards: factor had rows before, none now"]


def test_a_table_that_lost_most_of_its_rows_is_told_until_it_is_right(clinic: Path) -> None:
    """Cut off between two rows it reads well; nothing that rests on the missing ones is mended."""
    people = [f"p{number}" for number in range(30)]
    book = (
        BOOK
        + '[rule.old]\ntitle = "No passwords any more"\neach = "factor"\nmust = "kind != password"\nseverity = "low"\n'
    )
    write(
        clinic,
        {
            "estate.toml": ESTATE.replace("[source", 'logbook = "logbook"\n[source'),
            "map.toml": MAP.replace(
                'kind = "What"', 'kind = { from = "What", words = { otp = "otp", pw = "password" } }'
            ),
            "rulebook.toml": book,
            "accounts.csv": "Login,Mail,Set\n" + "".join(f"{name},,2026-11-01\n" for name in people),
        },
    )
    factors = [f"{name},{kind}\n" for kind in ("otp", "pw") for name in people]

    def states(rows: list[str], *words: str, expect: int) -> set[str]:
        write(clinic, {"factors.csv": "Of,What\n" + "".join(rows)})
        run("read", *AT, *words, cwd=clinic, expect=expect)
        run("judge", *AT, "--record", cwd=clinic)
        told = run("findings", "--format", "csv", "--rows", "0", cwd=clinic).stdout.splitlines()
        return {row["state"] for row in csv.DictReader(told)}

    assert states(factors, "--accept-drop", expect=0) == {"new"}
    for _ in range(2):
        assert states(factors[:29], expect=3) >= {"not seen"}
        assert gaps(clinic, expect=1)["shrunk"] == [
            "wards: 29 factors where there were 60; right? read --accept-drop"
        ]
    assert states(factors[:30], "--accept-drop", expect=0) == set()
    assert "shrunk" not in gaps(clinic, expect=0)


def test_a_column_emptied_stays_noted_until_it_has_values(clinic: Path) -> None:
    """From reading to reading; --accept-drop says that it is right."""
    write(clinic, {"accounts.csv": "Login,Mail,Set\nanna,a@larch.example,\nben,b@larch.example,\n"})
    for _ in range(2):
        run("read", *AT, cwd=clinic, expect=3)
        assert gaps(clinic)["emptied"] == [
            "wards: account.password-changed had values before and has none now"
        ]
    run("read", *AT, "--accept-drop", cwd=clinic, expect=0)
    assert "emptied" not in gaps(clinic)
    write(clinic, {"accounts.csv": ACCOUNTS})
    run("read", *AT, cwd=clinic, expect=0)
    run("judge", *AT, cwd=clinic, expect=0)


def test_dates_after_the_reading(clinic: Path) -> None:
    """They can not have happened: unknown, and told."""
    write(clinic, {"accounts.csv": ACCOUNTS.replace("2026", "2036")})
    run("read", *AT, cwd=clinic, expect=3)
    found = gaps(clinic)
    assert found["unreadable"] == ["wards: 2 cells not understood"]
    assert found["unproven"] == ["fresh: unproven for 2 of 2"]


def test_judged_before_it_was_read(clinic: Path) -> None:
    """What happened in between may be undone in the evidence."""
    assert gaps(clinic, "--at", "2026-11-23")["read-later"]


def test_a_reading_that_failed_is_not_forgotten(clinic: Path) -> None:
    """The only source fails, so no snapshot comes: judging the old one says so, until a reading succeeds."""
    (clinic / "accounts.csv").rename(clinic / "gone.csv")
    run("read", *AT, cwd=clinic, expect=2)
    (told,) = gaps(clinic)["failed-reading"]
    assert "accounts.csv: there is no such file" in told
    (clinic / "gone.csv").rename(clinic / "accounts.csv")
    run("read", *AT, cwd=clinic, expect=0)
    run("judge", *AT, cwd=clinic, expect=0)


def test_a_reading_that_was_killed_is_not_forgotten(clinic: Path) -> None:
    """Its note says that it began, and nobody is at it any more."""
    (note,) = (clinic / "snapshots").glob(".reading-*.json")
    begun = json.loads(note.read_text())
    note.write_text(json.dumps(begun | {"snapshot": ""}))
    assert "did not end" in gaps(clinic)["failed-reading"][0]
    note.write_text("{")
    assert "damaged" in gaps(clinic)["failed-reading"][0]


def test_the_newest_snapshot_taken_away(clinic: Path) -> None:
    """The one before it is not taken for the newest in silence."""
    run("read", *AT, cwd=clinic, expect=0)
    shutil.rmtree(newest(clinic).folder)
    assert "not there any more" in gaps(clinic)["failed-reading"][0]


def test_one_reading_far_ahead_does_not_hide_later_ones(clinic: Path) -> None:
    """Read as of 2036 by mistake, then rightly: the later reading counts, and the odd one is named."""
    run("read", "--at", "2036-01-01", cwd=clinic, expect=0)
    write(clinic, {"factors.csv": "Of,What\nanna,otp\n"})
    run("read", *AT, cwd=clinic, expect=0)
    assert gaps(clinic, expect=1)["from-future"]


def test_two_estates_in_one_folder_do_not_answer_for_each_other(clinic: Path) -> None:
    """Each finds its own snapshots; one named outright is refused by the other."""
    write(
        clinic, {"lab.toml": ESTATE.replace("Larch Clinic", "Larch Lab").replace("accounts.csv", "lab.csv")}
    )
    write(clinic, {"lab.csv": ACCOUNTS.replace("2026-11-01", "2025-11-01")})
    run("read", *AT, "--estate", "lab.toml", cwd=clinic, expect=0)
    run("judge", *AT, cwd=clinic, expect=0)
    run("judge", *AT, "--estate", "lab.toml", cwd=clinic, expect=1)
    told = run(
        "judge", "--estate", "lab.toml", "--snapshot", str(newest(clinic).folder), cwd=clinic, expect=2
    )
    assert "of another estate: Larch Clinic" in told.stderr


def test_rows_of_no_account_leave_open_who_has_none(clinic: Path) -> None:
    """Factors keyed by mail address: nobody is without a factor for certain; the estate may expect strays."""
    write(clinic, {"factors.csv": "Of,What\na@larch.example,otp\nben,otp\n"})
    run("read", *AT, cwd=clinic, expect=3)
    found = gaps(clinic)
    assert found["strays"] == [
        "wards: factor: 1 row names an account that is not there: a@larch.example; "
        '1 would be found by mail: by = "mail" in the map'
    ]
    assert found["unproven"] == ["second: unproven for 1 of 2"]
    told = json.loads(run("judge", *AT, "--format", "json", cwd=clinic).stdout)["findings"]
    assert [row["missing"] for row in told] == [
        ["factor (rows of the source name accounts that are not there)"]
    ]
    write(clinic, {"estate.toml": ESTATE + 'strays = "expected"\n'})
    run("read", *AT, cwd=clinic, expect=0)
    assert not gaps(clinic, expect=1)


def test_rules_for_what_no_source_tells(clinic: Path) -> None:
    """A rule for elevations where nobody lists any, and one for a source that is not there."""
    more = """
[rule.short]
title = "Elevations are short"
each = "elevation"
must = "ends - starts <= 8h"
severity = "high"
[rule.cloud]
title = "Cloud"
who = "source = 'clowd'"
must = "mail is known"
severity = "high"
[rule.quiet]
title = "Not grave enough to end with 3"
each = "key"
must = "expires is known"
severity = "low"
"""
    write(clinic, {"rulebook.toml": BOOK + more})
    assert gaps(clinic)["nothing-to-judge"] == [
        "1 rule has nothing to judge: no source supplies elevation: short",
        '1 rule has nothing to judge: there is no source "clowd": cloud',
    ]
    told = gaps(clinic, *AT, "--fail-on", "low")["nothing-to-judge"]
    assert len(told) == 3


def test_an_estate_may_accept_a_gap_for_a_time(clinic: Path) -> None:
    """By its kind and what it is about, with a reason and an end; it is shown, and counts again afterwards."""
    write(clinic, {"factors.csv": "Of,What\na@larch.example,otp\nanna,otp\nben,otp\n"})
    accept = '[[accept]]\ngap = "strays"\nabout = "wards"\nreason = "leavers"\nuntil = 2026-12-01\n'
    write(clinic, {"estate.toml": ESTATE + accept})
    run("read", *AT, cwd=clinic, expect=3)
    shown = run("judge", "--all", *AT, cwd=clinic, expect=0).stdout
    assert "accepted until 2026-12-01: wards: factor: 1 row names" in shown
    assert gaps(clinic, "--at", "2026-12-02")["strays"]
    write(clinic, {"estate.toml": ESTATE + accept.replace("strays", "strais").replace("leavers", " ")})
    told = run("judge", *AT, cwd=clinic, expect=2).stderr
    assert 'did you mean "strays"' in told and "needs a reason" in told
