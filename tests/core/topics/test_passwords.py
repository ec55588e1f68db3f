"""The report of passwords: ages against each account's own limit, batches, copies, weaker systems."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

from keymallet.core.topics.passwords import stricter
from keymallet.core.topics.report import STATE
from tests.core.topics.support import of_each, report_of, sentences
from tests.support import AT, days_ago, evidence

LIMIT = '[limits]\npassword-age = "180d"\npassword-length = 12\n'


def account(name: str, age: float | None = 10, **more: Any) -> dict[str, Any]:
    return {
        "name": name, "kind": "person", "enabled": True, "has_password": True, "password_empty": False,
        "initial_password": False, "password_must_change": False, "password_never_expires": False,
        "password_scheme": "yescrypt", "created": days_ago(900), "unit": "Track",
        "password_changed": None if age is None else days_ago(age), **more,
    }  # fmt: skip


def test_each_state() -> None:
    """The worst of several is told; what is switched off or has no password is not counted."""
    accounts = [
        account("fine"), account("edge", 180), account("old", 180.001), account("soon", 153),
        account("empty", 400, password_empty=True), account("handed", 2, initial_password=True),
        account("fresh", 0.5, initial_password=True), account("weak", password_scheme="md5"),
        account("asked", 3, password_must_change=True), account("asked now", 0.5, password_must_change=True),
        account("never", password_never_expires=True), account("unknown", None),
        account("off", 900, enabled=False), account("none", has_password=False),
    ]  # fmt: skip
    states = of_each(report_of("passwords", evidence(accounts), LIMIT), STATE)
    assert states == {
        "fine": "in order", "edge": "due soon", "old": "too old", "soon": "due soon", "empty": "empty",
        "handed": "handed out", "fresh": "in order", "weak": "weak scheme", "asked": "not answered",
        "asked now": "in order", "never": "never expires", "unknown": "unproven",
    }  # fmt: skip


def test_a_book_that_asks_for_no_change_by_age() -> None:
    """A password may then be as old as it likes, unless its system says otherwise."""
    setting = [{"setting": "s", "applies_to": ["admins"], "max_age": timedelta(days=30)}]
    accounts = [account("old", 3000, groups=[]), account("admin", 40, groups=["admins"])]
    report = report_of("passwords", evidence(accounts, setting=setting))
    assert of_each(report, STATE) == {"old": "in order", "admin": "too old"}
    assert of_each(report, "limit by") == {"old": "no limit", "admin": "the system"}
    assert "sets no limit on age" in sentences(report)[2]


def test_the_stricter_limit_counts_and_is_named() -> None:
    """The book's, the system's, and where some have another."""
    setting = [{"setting": "s", "applies_to": ["everyone"], "max_age": timedelta(days=100)}]
    limits = LIMIT + '[limits.for.guest]\npassword-age = "60d"\n[terms]\nguest = "kind = guest"\n'
    accounts = [account("a", 90), account("b", 90, kind="guest")]
    report = report_of("passwords", evidence(accounts, setting=setting), limits)
    assert of_each(report, STATE) == {"a": "due soon", "b": "too old"}
    assert of_each(report, "limit by") == {"a": "the system", "b": "the rulebook"}
    assert of_each(report, "due")["a"] == AT + timedelta(days=10)


SPANS = st.none() | st.integers(1, 5).map(lambda days: timedelta(days=days))


@given(st.lists(st.tuples(SPANS, SPANS), min_size=1, max_size=6))
def test_stricter_is_never_longer_than_either(pairs: list[tuple[timedelta | None, timedelta | None]]) -> None:
    """And is one of the two; of one that is not known the other counts."""
    schema = {"book": pl.Duration("us"), "system": pl.Duration("us")}
    found = pl.DataFrame(pairs, schema=schema, orient="row").select(*stricter("book", "system"))
    for (book, system), (limit, by) in zip(pairs, found.iter_rows(), strict=True):
        known = [each for each in (book, system) if each is not None]
        assert limit == min(known, default=None)
        assert by == ("no limit" if not known else "the rulebook" if limit == book else "the system")


def test_spread_and_wave_count_every_password_once() -> None:
    """By hand: bins of fifteen days, weeks from now on."""
    accounts = [account("a", 0), account("b", 14.9), account("c", 15), account("d", 175), account("e", 100),
                account("g", 1, kind="guest")]  # fmt: skip
    drawn = report_of("passwords", evidence(accounts), LIMIT).drawn
    assert drawn["ages"].rows() == [
        ("guest", 0, 1),
        ("person", 0, 2),
        ("person", 1, 1),
        ("person", 6, 1),
        ("person", 11, 1),
    ]
    assert drawn["limits"].rows() == [(timedelta(days=180), 6)]
    wave = dict(drawn["wave"].iter_rows())
    assert {week: number for week, number in wave.items() if number} == {0: 1, 11: 1}


def test_many_on_one_day_stand_out() -> None:
    """Twelve on a day where two are usual; the same twelve in a source that always has as many do not."""
    course = [account(f"guest-{number}", 50) for number in range(12)]
    usual = [account(f"p{number}", 100 + number // 2) for number in range(20)]
    sections = report_of("passwords", evidence([*course, *usual]), LIMIT).sections
    (found,) = [each for each in sections if each.name == "batches"]
    assert found.rows.select("day", "passwords").rows() == [("2026-10-05", 12)]
    later = [account(f"late-{number}", 40) for number in range(12)]
    sections = report_of("passwords", evidence([*later, *course, *usual]), LIMIT).sections
    (found,) = [each for each in sections if each.name == "batches"]
    # As many on two days: the earlier first.
    assert found.rows["day"].to_list() == ["2026-10-05", "2026-10-15"]
    busy = [account(f"p{number}", 100 + number // 12) for number in range(60)]
    again = report_of("passwords", evidence([*course, *busy]), LIMIT).sections
    assert not [each for each in again if each.name == "batches"]


def test_systems_that_ask_for_less() -> None:
    """What each asks and what the book wants; nothing is said of what the book has no limit for."""
    setting = [
        {"setting": "weak", "min_length": 8, "classes": 1, "max_age": None},
        {"setting": "strong", "min_length": 12, "classes": 1, "max_age": timedelta(days=180)},
        {"setting": "unread", "unread": ["min-length", "max-age"]},
    ]
    (section, *_) = report_of("passwords", evidence([account("a")], setting=setting), LIMIT).sections
    assert section.rows.rows() == [
        ("d", "weak", "older passwords", None, None, None, timedelta(days=180)),
        ("d", "weak", "shorter passwords", 8, 12, None, None),
    ]  # fmt: skip


def test_copies() -> None:
    """The very same password on two people's accounts."""
    accounts = [
        account("a", password_shared_with=["d/b"]),
        account("b", password_shared_with=["d/a"]),
        account("c"),
    ]
    sections = report_of("passwords", evidence(accounts), LIMIT).sections
    (found,) = [each for each in sections if each.name == "copies"]
    assert found.rows["account"].to_list() == ["d/a", "d/b"]
