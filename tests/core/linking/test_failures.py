"""Failed sign-ins: how often they lock, and the shapes of attacks; by hand and one after the other."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

from keymallet.core.facts.evidence import ACCOUNT_ROW, INSTANT
from keymallet.core.linking.failures import count_locks, locks_by_failures, on_many, on_one
from tests.support import AT, RULES, evidence, linked

EVENTS = {ACCOUNT_ROW: pl.UInt32(), "at": INSTANT, "outcome": pl.String(), "origin": pl.String()}


def events(*rows: tuple[int, float, str], outcome: str = "failure") -> pl.DataFrame:
    """Sign-ins of an account, so many minutes after AT, from an origin."""
    told = [(who, AT + timedelta(minutes=minutes), outcome, origin) for who, minutes, origin in rows]
    return pl.DataFrame(told, schema=EVENTS, orient="row")


def known(locks: int | None, within: int | None) -> pl.DataFrame:
    span = None if within is None else timedelta(minutes=within)
    schema = {ACCOUNT_ROW: pl.UInt32(), "locks": pl.Int64(), "within": pl.Duration("us")}
    return pl.DataFrame([(0, locks, span), (1, locks, span)], schema=schema, orient="row")


def times(frame: pl.DataFrame, locks: int | None = 3, within: int | None = 15) -> dict[int, int]:
    return dict(locks_by_failures(frame, known(locks, within)).sort(ACCOUNT_ROW).iter_rows())


def test_each_full_number_in_a_run_is_a_lock() -> None:
    """Apart by more than the window, or with a success between, they do not count together."""
    assert times(events((0, 0, "x"), (0, 15, "x"), (0, 30, "x"))) == {0: 1}
    assert times(events((0, 0, "x"), (0, 15, "x"), (0, 30.1, "x"))) == {0: 0}
    assert times(events(*((0, minute, "x") for minute in range(7)))) == {0: 2}
    assert times(events((0, 0, "x"), (0, 1, "x"), (1, 2, "x"))) == {0: 0, 1: 0}
    between = pl.concat(
        [events((0, 0, "x"), (0, 1, "x"), (0, 3, "x")), events((0, 2, "x"), outcome="success")]
    )
    assert times(between) == {0: 0}
    assert times(events((0, 0, "x"), (0, 900, "x"), (0, 9000, "x")), within=None) == {0: 1}
    assert times(events((0, 0, "x")), locks=None) == {}


@given(
    st.lists(st.tuples(st.integers(0, 60), st.booleans()), max_size=14, unique_by=lambda event: event[0]),
    st.integers(1, 4), st.integers(1, 20),
)  # fmt: skip
def test_against_going_through_them(told: list[tuple[int, bool]], locks: int, within: int) -> None:
    """One sign-in after the other, with a counter."""
    frame = pl.concat(
        [events(*((0, minute, "x") for minute, failed in told if failed)),
         events(*((0, minute, "x") for minute, failed in told if not failed), outcome="success")]
    )  # fmt: skip
    locked = counter = 0
    last = None
    for minute, failed in sorted(told):
        if last is not None and minute - last > within:
            counter = 0
        last = minute
        counter = counter + 1 if failed else 0
        if counter == locks:
            locked, counter = locked + 1, 0
    assert sum(times(frame, locks, within).values()) == locked


def test_one_origin_on_many_accounts() -> None:
    """Ten within an hour of one another; nine, or ten over ten hours, are none."""
    wide = events(*((who, who, "a") for who in range(10)), *((who, who, "b") for who in range(9)),
                  *((who, 61 * who, "c") for who in range(10)))  # fmt: skip
    found = on_many(wide).rows(named=True)
    assert [(row["origin"], row["accounts"], row["failures"]) for row in found] == [("a", 10, 10)]
    assert found[0]["to"] - found[0]["from"] == timedelta(minutes=9)


def test_many_on_one_account() -> None:
    """Twenty in a row, from however many origins."""
    deep = events(
        *((0, minute, f"o{minute % 3}") for minute in range(20)), *((1, minute, "x") for minute in range(19))
    )
    (row,) = on_one(deep).rows(named=True)
    assert (row[ACCOUNT_ROW], row["failures"], row["origins"]) == (0, 20, 3)
    # An hour apart they still follow each other, a minute more and they do not.
    assert on_one(events(*((0, 60 * place, "o") for place in range(20)))).height == 1
    assert on_one(events(*((0, 61 * place, "o") for place in range(20)))).height == 0


def test_locks_are_counted_by_the_setting_in_force() -> None:
    """The nearest one that names the account; without one, or without sign-ins, nothing is claimed."""
    accounts = [
        {"name": "a", "groups": ["machines"]},
        {"name": "b", "groups": []},
        {"name": "c", "source": "e", "groups": []},
    ]
    supply: dict[str, dict[str, list[str]]] = {
        "d": {"account": ["name"], "sign-in": ["at", "outcome"], "setting": ["lock-after"]}, "e": {"account": ["name"]},
    }  # fmt: skip
    settings: list[dict[str, Any]] = [
        {"setting": "all", "applies_to": ["everyone"], "lock_after": 4, "count_within": timedelta(hours=1)},
        {
            "setting": "machines",
            "applies_to": ["machines"],
            "lock_after": 2,
            "count_within": timedelta(hours=1),
        },
    ]
    failed = [
        {"of": of, "at": AT - timedelta(minutes=minute), "outcome": "failure"}
        for of in (0, 1, 2)
        for minute in range(4)
    ]
    found = count_locks(linked(evidence(accounts, supply, setting=settings, sign_in=failed)), RULES)
    assert found.accounts["locked-before"].to_list() == [2, 1, None]
