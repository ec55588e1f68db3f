"""Demands on numbers: how many rows there are of a sort, all in all or for each unit or source."""

from __future__ import annotations

import polars as pl

from keymallet.core.evaluating.context import EvaluationContext
from keymallet.core.facts.declaration import ACCOUNT, TABLES
from keymallet.core.facts.evidence import source_column
from keymallet.core.judging.verdicts import Verdict
from keymallet.core.language import typed
from keymallet.core.rulebook.model import Tally

COUNTS = "counts"
GROUP = "group"


def members(context: EvaluationContext, tally: Tally) -> pl.DataFrame:
    """Each row of the tally's table: whether it COUNTS, and its GROUP (null if the tally has no groups)."""
    counts = context.work_out(tally.table, [tally.count])[0]
    return pl.DataFrame({GROUP: _groups(context, tally), COUNTS: counts})


def numbers_of(context: EvaluationContext, tally: Tally) -> pl.DataFrame:
    """For each group, or for everything at once: `sure` and `may` be counted, and the verdict's code.

    The number is known to lie between `sure` and `sure + may`. Every group that has any row at all is
    counted, also where none of its rows counts; of sources, every one that supplies the table.
    """
    return judged_numbers(context, tally, counted(context, tally))


def counted(context: EvaluationContext, tally: Tally) -> pl.DataFrame:
    """GROUP, `sure` and `may` of each group that has a row; without groups, of everything at once."""
    rows = members(context, tally)
    sums = [
        pl.col(COUNTS).fill_null(False).sum().cast(pl.Int64).alias("sure"),
        pl.col(COUNTS).is_null().sum().cast(pl.Int64).alias("may"),
    ]
    if tally.by:
        return rows.drop_nulls(GROUP).group_by(GROUP).agg(sums)
    return rows.select(pl.lit(None, dtype=pl.String).alias(GROUP), *sums).head(1)


def judged_numbers(context: EvaluationContext, tally: Tally, instant: pl.DataFrame) -> pl.DataFrame:
    """The numbers that were `counted`, with the verdict's code; further columns stay as they are."""
    nothing = [pl.lit(0, dtype=pl.Int64).alias(name) for name in ("sure", "may")]
    if tally.by == "source":
        # A source that tells of such rows and has none left is a group of none, not no group.
        told = [name for name, told in context.evidence.supply.items() if told.get(tally.table)]
        without = pl.DataFrame({GROUP: told}, schema={GROUP: pl.String}).join(instant, on=GROUP, how="anti")
        instant = pl.concat([instant, without.with_columns(nothing)], how="diagonal")
    if tally.by:
        instant = instant.sort(GROUP)
    elif not instant.height:
        everything = pl.DataFrame({GROUP: [None]}, schema={GROUP: pl.String}).with_columns(nothing)
        instant = pl.concat([instant, everything], how="diagonal")
    return instant.with_columns(_verdict(tally).alias("verdict"))


def _verdict(tally: Tally) -> pl.Expr:
    least, most = pl.col("sure"), pl.col("sure") + pl.col("may")
    too_few, too_many = most < tally.least, least > tally.most
    code = (
        pl.when(too_few | too_many)
        .then(int(Verdict.BREACH))
        .when((least >= tally.least) & (most <= tally.most))
        .then(int(Verdict.MET))
        .otherwise(int(Verdict.UNPROVEN))
    )
    return code.cast(pl.UInt8)


def _groups(context: EvaluationContext, tally: Tally) -> pl.Series:
    table = TABLES[tally.table]
    frame = context.frames[tally.table]
    if tally.by == "source":
        return frame[source_column(table)].cast(pl.String)
    if tally.by != "unit":
        return pl.Series([None], dtype=pl.String).new_from_index(0, frame.height)
    owner = ACCOUNT if table.of_account else table
    column = owner.column("unit")
    assert column is not None, "held when the book is read"
    unit: typed.Typed = typed.Fact(typed.TEXT, "unit", owner.name, column)
    if table.of_account:
        unit = typed.OfOwner(typed.TEXT, "account.unit", table.name, unit)
    return context.work_out(table.name, [unit])[0].cast(pl.String)
