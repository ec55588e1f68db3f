"""What is said of a demand on a number: how many are asked for, and which count."""

from __future__ import annotations

import polars as pl

from keymallet.core.base.listing import first_few, listed
from keymallet.core.evaluating.context import EvaluationContext
from keymallet.core.explaining.finding_subject import subjects_of
from keymallet.core.facts.declaration import TABLES
from keymallet.core.judging.tallies import COUNTS, GROUP, members
from keymallet.core.rulebook.model import Tally


def asked_for(tally: Tally) -> str:
    """How many there have to be, in words."""
    if tally.least == tally.most:
        return f"required: {tally.least}" if tally.least else "none allowed"
    return f"required: {tally.least} to {tally.most}" if tally.least else f"at most {tally.most} allowed"


def members_by_group(context: EvaluationContext, tally: Tally) -> pl.DataFrame:
    """For each GROUP that has any the `names` of the first few rows that count, and how many `all` are."""
    rows = members(context, tally).with_row_index("row").filter(pl.col(COUNTS).fill_null(False))
    who = subjects_of(context, TABLES[tally.table], rows["row"])
    name = pl.concat_str(["account", "subject"], separator=" ", ignore_nulls=True)
    return rows.hstack(who).group_by(GROUP, maintain_order=True).agg(first_few(name))


def named_members(context: EvaluationContext, tally: Tally, numbers: pl.DataFrame) -> pl.Series:
    """`5: directory/a, directory/b, directory/c and 2 more`, for the GROUP of each of these numbers.

    Where the numbers have `names` and `all` themselves, as from many shards, it is those.
    """
    known = "names" in numbers.columns
    named = numbers.filter(pl.col("all") > 0) if known else members_by_group(context, tally)
    groups = numbers[GROUP]
    names = named.select(GROUP, listed(pl.format("{} counted: ", "all")).alias("="))
    asked = groups.alias(GROUP).to_frame()
    lists = asked.join(names, on=GROUP, how="left", maintain_order="left", nulls_equal=True)
    return lists["="].fill_null("none counted")
