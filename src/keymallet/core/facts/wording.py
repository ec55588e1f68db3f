"""Values as people read them, whole columns at a time: dates in the estate's clock, figures with units."""

from __future__ import annotations

from datetime import timedelta
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.facts.model import Kind

_DAY, _HOUR, _MINUTE = 86_400_000_000, 3_600_000_000, 60_000_000
_SECOND = 1_000_000

DETAILS = (0, 1, 2, 3)
"""How closely an instant or a length is written: from a day, or one unit, to the microsecond."""
DAY_AND_MINUTE = "%Y-%m-%d %H:%M"
_OF_INSTANTS = ("%Y-%m-%d", DAY_AND_MINUTE, "%Y-%m-%d %H:%M:%S", "%Y-%m-%d %H:%M:%S%.6f")


def instants(values: pl.Series, clock: ZoneInfo, detail: int = 0) -> pl.Series:
    """Write instants as days of the clock, `2026-03-02`; in more detail, with their time."""
    return values.dt.convert_time_zone(clock.key).dt.strftime(_OF_INSTANTS[detail])


def spans(values: pl.Series, detail: int = 0) -> pl.Series:
    """Write lengths of time in one unit, without sign and rounded down: `267 d`, `31 h`, `12 min`.

    In more detail, in more units: `267 d 4 h`, `267 d 4 h 12 min`.
    """
    if detail:
        return _in_units(values, detail)
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


def _in_units(values: pl.Series, detail: int) -> pl.Series:
    """In the largest unit and those below that are not zero: one more for each degree of detail, or all."""
    rest = pl.col("length")
    parts = []
    for size, unit in ((_DAY, "d"), (_HOUR, "h"), (_MINUTE, "min")):
        parts.append(pl.when(rest >= size).then(pl.format("{} {}", rest // size, pl.lit(unit))))
        rest = rest % size
    micro = rest % _SECOND
    parts.append(pl.when(rest >= _SECOND).then(pl.format("{} s", rest // _SECOND)))
    parts.append(pl.when(micro > 0).then(pl.format("{} µs", micro)))
    written = pl.concat_list(parts).list.drop_nulls()
    written = written if detail == DETAILS[-1] else written.list.head(1 + detail)
    lengths = pl.DataFrame({"length": values.dt.total_microseconds().abs()})
    told = pl.when(pl.col("length") == 0).then(pl.lit("0 s")).otherwise(written.list.join(" "))
    return lengths.select(pl.when(pl.col("length").is_not_null()).then(told).alias("length")).to_series()


def ago(spans_since: pl.Series, detail: int = 0) -> pl.Series:
    """Write how long ago, or how far ahead: `267 d ago`, `in 7 d`."""
    figures = pl.DataFrame({"text": spans(spans_since, detail), "since": spans_since})
    ahead = pl.col("since") < pl.duration()
    return figures.select(
        pl.when(ahead).then(pl.format("in {}", "text")).otherwise(pl.format("{} ago", "text"))
    ).to_series()


def values(column: pl.Series, kind: Kind, clock: ZoneInfo, detail: int = 0) -> pl.Series:
    """Write values of any type of fact; instants and lengths of time as closely as `detail` says."""
    match kind:
        case Kind.FLAG:
            return (
                pl.DataFrame({"v": column})
                .select(pl.when("v").then(pl.lit("yes")).when(~pl.col("v")).then(pl.lit("no")))
                .to_series()
            )
        case Kind.INSTANT:
            return instants(column, clock, detail)
        case Kind.SPAN:
            signs = pl.DataFrame({"text": spans(column, detail), "below": column < timedelta()})
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
