"""Interval arithmetic: by hand, and against going through the hours one by one."""

from __future__ import annotations

from datetime import datetime, timedelta

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

from keymallet.core.base.intervals import clipped, held_before, holds_at, total, unbroken, within
from keymallet.core.facts.evidence import INSTANT
from tests.support import AT

KEY = "who"
SCHEMA = {KEY: pl.UInt32(), "start": INSTANT, "end": INSTANT}


def hour(number: float) -> datetime:
    return AT + timedelta(hours=number)


def stretches(*rows: tuple[int, float | None, float | None]) -> pl.DataFrame:
    told = [
        (key, None if low is None else hour(low), None if high is None else hour(high))
        for key, low, high in rows
    ]
    return pl.DataFrame(told, schema=SCHEMA, orient="row")


def hours(frame: pl.DataFrame) -> list[tuple[int, float, float]]:
    return [(key, (low - AT) / timedelta(hours=1), (high - AT) / timedelta(hours=1))
            for key, low, high in frame.select(KEY, "start", "end").iter_rows()]  # fmt: skip


def test_by_hand() -> None:
    """Overlapping and touching ones are one; of different people never; a gap may be allowed for."""
    told = stretches(
        (1, 0, 2), (1, 2, 3), (1, 5, 6), (2, 1, 4), (1, 1, 2), (3, 7, 7), (3, 9, 8), (4, None, 2)
    )
    assert hours(unbroken(told, KEY)) == [(1, 0, 3), (1, 5, 6), (2, 1, 4)]
    assert unbroken(told, KEY)["pieces"].to_list() == [3, 1, 1]
    assert hours(unbroken(told, KEY, timedelta(hours=2))) == [(1, 0, 6), (2, 1, 4)]
    part = within(told, unbroken(told, KEY), KEY)
    lasting = (part["end"] - part["start"]).to_list()
    assert lasting == [timedelta(hours=each) if each else None for each in (3, 3, 1, 3, 3, None, None, None)]
    assert total(told, KEY).rows() == [(1, timedelta(hours=5)), (2, timedelta(hours=3))]
    inside = clipped(told, pl.lit(hour(1), dtype=INSTANT), pl.lit(hour(5.5), dtype=INSTANT))
    assert hours(inside) == [(1, 1, 2), (1, 2, 3), (1, 5, 5.5), (2, 1, 4), (1, 1, 2)]


def test_a_long_one_that_holds_a_short_one() -> None:
    """What begins after the short one has ended is still part of the long one."""
    assert hours(unbroken(stretches((1, 0, 9), (1, 1, 2), (1, 8, 10)), KEY)) == [(1, 0, 10)]


HOURS = st.integers(0, 24)
ROWS = st.lists(st.tuples(st.integers(1, 3), HOURS, HOURS), max_size=12)


@given(ROWS, st.integers(0, 3))
def test_the_union_hour_by_hour(rows: list[tuple[int, int, int]], gap: int) -> None:
    """An hour is in the union if it is in some stretch, or in a gap no longer than allowed between two."""
    told = stretches(*rows)
    found = unbroken(told, KEY, timedelta(hours=gap))
    for key in (1, 2, 3):
        covered = {number for who, low, high in rows if who == key for number in range(low, high)}
        filled = {
            number for number in range(24)
            if number in covered
            or any(low in covered and high in covered and low < number < high and high - low - 1 <= gap
                   and not covered & set(range(low + 1, high)) for low in range(24) for high in range(24))
        }  # fmt: skip
        inside = {
            number for who, low, high in hours(found) if who == key for number in range(int(low), int(high))
        }
        assert inside == filled


@given(ROWS)
def test_the_union_never_exceeds_the_sum(rows: list[tuple[int, int, int]]) -> None:
    """It is as long only where nothing overlaps; joined anew it stays as it is."""
    told = stretches(*rows)
    union = unbroken(told, KEY)
    both = total(told, KEY).join(total(union, KEY), on=KEY, how="left", suffix=" of union")
    assert (both["sum of union"] <= both["sum"]).all()
    assert hours(unbroken(union, KEY)) == hours(union)
    assert int(union["pieces"].sum()) == sum(low < high for _, low, high in rows)


@given(ROWS, st.lists(st.tuples(st.integers(1, 3), HOURS), max_size=6))
def test_points_hour_by_hour(rows: list[tuple[int, int, int]], points: list[tuple[int, int]]) -> None:
    """How long it had held before a point, and whether it holds there."""
    union = unbroken(stretches(*rows), KEY)
    asked = pl.DataFrame(
        [(key, hour(at)) for key, at in points], schema={KEY: pl.UInt32(), "at": INSTANT}, orient="row"
    )
    covered = {(who, number) for who, low, high in rows for number in range(low, high)}
    held = [timedelta(hours=sum((key, number) in covered for number in range(at))) for key, at in points]
    assert held_before(union, asked, KEY).to_list() == held
    assert holds_at(union, asked, KEY).to_list() == [(key, at) in covered for key, at in points]
