"""Interval arithmetic on columns: stretches of time that overlap or follow one another, by whose they are.

A stretch is a row with a key and two instants, `start` and `end`; it holds from its start up to, not
including, its end. One that ends where it starts, or before, holds nothing and is left out.
"""

from __future__ import annotations

from datetime import timedelta

import polars as pl

START, STOP = "start", "end"
NO_GAP = timedelta(0)


def unbroken(stretches: pl.DataFrame, key: str, gap: timedelta = NO_GAP) -> pl.DataFrame:
    """The union of each key's stretches: KEY, START, STOP, and of how many `pieces` it is made.

    Stretches that follow one another within `gap` are one. In the order of keys and instants.
    """
    ordered = _holding(stretches).sort(key, START)
    first = _first_of(key)
    reach = pl.when(~first).then(_farthest_so_far(ordered, key).shift(1))
    begins = first | (pl.col(START) > reach + gap)
    numbered = ordered.with_columns(begins.cast(pl.UInt32).cum_sum().alias("number"))
    spans = numbered.group_by("number", maintain_order=True).agg(
        pl.col(key).first(), pl.col(START).min(), pl.col(STOP).max(), pl.len().alias("pieces")
    )
    return spans.drop("number")


def _first_of(key: str) -> pl.Expr:
    """Whether a row is the first of its key, in rows that are sorted by it."""
    return pl.col(key).ne_missing(pl.col(key).shift()) | (pl.int_range(pl.len()) == 0)


def _farthest_so_far(ordered: pl.DataFrame, key: str) -> pl.Expr:
    """The latest STOP of a key's rows up to each, in rows that are sorted by the key.

    One running maximum over all rows, of the key's place before the place of the STOP: a window for each
    key would take a hundred times as long where keys are many.
    """
    stops = ordered[STOP].unique().sort()
    place = ordered[STOP].rank("dense").cast(pl.Int64) - 1
    keys = ordered.select(_first_of(key).cast(pl.Int64).cum_sum().alias("key"))["key"]
    together = (keys * len(stops) + place).cum_max()
    return pl.lit(stops.gather((together % max(len(stops), 1)).cast(pl.UInt32)))


def within(stretches: pl.DataFrame, unions: pl.DataFrame, key: str) -> pl.DataFrame:
    """The union that each row is part of, in order: its `start` and `end`; null where nothing holds.

    `unions` are what `unbroken` made of these very stretches.
    """
    placed = _begun(unions, stretches.select(key, at=START), key)
    held = (pl.col("at") < pl.col("to")).fill_null(False)
    return placed.select(pl.when(held).then("from").alias(START), pl.when(held).then("to").alias(STOP))


def held_before(unions: pl.DataFrame, points: pl.DataFrame, key: str) -> pl.Series:
    """How long each key's unions had held in all by an instant: for each row of `points` (KEY, `at`).

    `unions` overlap nowhere. Rows without an instant get null.
    """
    lasting = pl.col(STOP) - pl.col(START)
    ordered = unions.sort(key, START).with_columns((lasting.cum_sum() - lasting).alias("before all"))
    of_others = pl.when(_first_of(key)).then("before all").forward_fill()
    summed = ordered.with_columns((pl.col("before all") - of_others).alias("before"))
    until_then = pl.col("before") + (pl.min_horizontal("at", "to") - pl.col("from"))
    held = pl.when(pl.col("at").is_not_null()).then(until_then.fill_null(pl.duration(microseconds=0)))
    return _begun(summed, points, key).select(held.alias("held"))["held"]


def holds_at(unions: pl.DataFrame, points: pl.DataFrame, key: str) -> pl.Series:
    """Whether any of a key's unions holds at an instant: for each row of `points` (KEY, `at`)."""
    held = (pl.col("at") < pl.col("to")).fill_null(False)
    known = pl.when(pl.col("at").is_not_null()).then(held)
    return _begun(unions, points, key).select(known.alias("holds"))["holds"]


def _begun(unions: pl.DataFrame, points: pl.DataFrame, key: str) -> pl.DataFrame:
    """The last union of its key that had begun at each of the `points`, in order: `from` and `to`."""
    asked = points.select(key, "at").with_row_index("row").sort("at", nulls_last=True)
    begun = unions.rename({START: "from", STOP: "to"}).sort("from")
    placed = asked.join_asof(
        begun, left_on="at", right_on="from", by=key, strategy="backward", check_sortedness=False
    )
    return placed.sort("row")


def total(stretches: pl.DataFrame, key: str) -> pl.DataFrame:
    """How long each key's stretches are in all, overlaps counted as often as they stand: KEY, `sum`."""
    lasting = (pl.col(STOP) - pl.col(START)).sum().alias("sum")
    return _holding(stretches).group_by(key, maintain_order=True).agg(lasting)


def clipped(stretches: pl.DataFrame, start: pl.Expr, stop: pl.Expr) -> pl.DataFrame:
    """What of each stretch lies between two instants; those that lie outside are left out."""
    inner = _holding(stretches).with_columns(
        pl.max_horizontal(START, start).alias(START), pl.min_horizontal(STOP, stop).alias(STOP)
    )
    return _holding(inner)


def _holding(stretches: pl.DataFrame) -> pl.DataFrame:
    return stretches.filter(pl.col(START) < pl.col(STOP))
