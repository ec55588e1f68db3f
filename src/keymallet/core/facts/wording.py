"""Values as people read them, whole columns at a time: dates in the estate's clock, figures with units."""

from __future__ import annotations

from datetime import timedelta
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.facts.model import Kind

_DAY, _HOUR, _MINUTE = 86_400_000_000, 3_600_000_000, 60_000_000


def instants(values: pl.Series, clock: ZoneInfo) -> pl.Series:
    """Write instants as days of the clock: `2026-03-02`."""
    return values.dt.convert_time_zone(clock.key).dt.strftime("%Y-%m-%d")


def spans(values: pl.Series) -> pl.Series:
    """Write lengths of time in one unit, without sign and rounded down: `267 d`, `31 h`, `12 min`."""
    lengths = pl.DataFrame({"length": values.dt.total_microseconds().abs()})
    length = pl.col("length")
    chosen = (
        pl.when(length >= 2 * _DAY)
        .then(pl.format("{} d", length // _DAY))
        .when(length >= 2 * _HOUR)
        .then(pl.format("{} h", length // _HOUR))
        .when(length >= 2 * _MINUTE)
        .then(pl.format("{} min", length // _MINUTE))
        .otherwise(pl.format("{} s", length // 1_000_000))
    )
    return lengths.select(chosen).to_series()


def ago(spans_since: pl.Series) -> pl.Series:
    """Write how long ago, or how far ahead: `267 d ago`, `in 7 d`."""
    figures = pl.DataFrame({"text": spans(spans_since), "since": spans_since})
    ahead = pl.col("since") < pl.duration()
    return figures.select(
        pl.when(ahead).then(pl.format("in {}", "text")).otherwise(pl.format("{} ago", "text"))
    ).to_series()


def values(column: pl.Series, kind: Kind, clock: ZoneInfo) -> pl.Series:
    """Write values of any type of fact."""
    match kind:
        case Kind.FLAG:
            return (
                pl.DataFrame({"v": column})
                .select(pl.when("v").then(pl.lit("yes")).when(~pl.col("v")).then(pl.lit("no")))
                .to_series()
            )
        case Kind.INSTANT:
            return instants(column, clock)
        case Kind.SPAN:
            signs = pl.DataFrame({"text": spans(column), "below": column < timedelta()})
            return signs.select(pl.when("below").then(pl.format("-{}", "text")).otherwise("text")).to_series()
        case Kind.WORDS:
            return (
                pl.DataFrame({"v": column})
                .select(
                    pl.when(pl.col("v").list.len() == 0)
                    .then(pl.lit("none"))
                    .otherwise(pl.col("v").list.join(", "))
                )
                .to_series()
            )
        case _:
            return column.cast(pl.String)
