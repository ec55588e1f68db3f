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


def named_members(context: EvaluationContext, tally: Tally, groups: pl.Series) -> pl.Series:
    """`5: directory/a, directory/b, directory/c and 2 more`, for each of these groups."""
    rows = members(context, tally).with_row_index("row").filter(pl.col(COUNTS).fill_null(False))
    who = subjects_of(context, TABLES[tally.table], rows["row"])
    name = pl.concat_str(["account", "subject"], separator=" ", ignore_nulls=True)
    named = rows.hstack(who).group_by(GROUP, maintain_order=True).agg(first_few(name))
    names = named.select(GROUP, listed(pl.format("{} counted: ", "all")).alias("="))
    asked = groups.alias(GROUP).to_frame()
    lists = asked.join(names, on=GROUP, how="left", maintain_order="left", nulls_equal=True)
    return lists["="].fill_null("none counted")
