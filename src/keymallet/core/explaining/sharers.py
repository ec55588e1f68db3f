"""Who else has a value that should be one's alone: named, without the value, which may be a secret."""

from __future__ import annotations

import polars as pl

from keymallet.core.base.listing import MOST_NAMED, first_few, listed
from keymallet.core.evaluating.context import EvaluationContext
from keymallet.core.explaining.explanation_context import ExplanationContext
from keymallet.core.explaining.finding_subject import subjects_of
from keymallet.core.facts.declaration import ACCOUNT, TABLES
from keymallet.core.language import typed

BEFORE, AFTER = "before", "after"
"""What `Elsewhere.sharers` has of the first few holders in the shards before this one, and after it."""
NAMES, ALL = "names", "all"


def shared_with(explained: ExplanationContext, node: typed.Unshared) -> pl.Series:
    """`the same digest as: directory/a, cloud/b and 3 more`, on each row that others share a value with."""
    context = explained.context
    whole = _named(context, node)
    mine = whole[explained.rows].select("value", own="name").with_row_index("place")
    others = mine.join(_held(whole), on="value", how="left", maintain_order="left_right")
    others = others.filter(pl.col("name") != pl.col("own"))
    named = others.group_by("place", maintain_order=True).agg(first_few(pl.col("name")))
    named = mine.select("place").join(named, on="place", how="left", maintain_order="left")
    elsewhere = None if context.elsewhere is None else context.elsewhere.of_values(node, mine["value"])
    if elsewhere is not None:
        named = named.select("place", *_with_others(named.hstack(elsewhere)))
    lead = pl.lit(f"the same {node.fact.column.name} as: ")
    return named.select(pl.when(pl.col(ALL) > 0).then(listed(lead)).alias("=")).to_series()


def named_holders(context: EvaluationContext, node: typed.Unshared) -> pl.DataFrame:
    """Each `value` that surely counts, with the NAMES of the first few who have it, and how many ALL are."""
    return _held(_named(context, node)).group_by("value", maintain_order=True).agg(first_few(pl.col("name")))


def _named(context: EvaluationContext, node: typed.Unshared) -> pl.DataFrame:
    """The `value` of each row of the table, who has it (`name`), and whether it `counts`."""
    table = TABLES[node.table]
    frame = context.frames[node.table]
    everybody = subjects_of(context, table, pl.int_range(frame.height, dtype=pl.UInt32, eager=True))
    of_accounts = table is ACCOUNT or table.of_account
    counts = context.lowering.lower(node.who).fill_null(False).alias("counts")
    whole = frame.lazy().select(pl.col(node.fact.column.name).alias("value"), counts).collect()
    return whole.with_columns(
        context.shared_value(node, whole["value"]).alias("value"),
        everybody["account" if of_accounts else "subject"].alias("name"),
    )


def _held(whole: pl.DataFrame) -> pl.DataFrame:
    return whole.filter("counts").drop_nulls("value").select("value", "name").unique(maintain_order=True)


def _with_others(named: pl.DataFrame) -> list[pl.Series]:
    """NAMES and ALL of holders here and in the other shards, those of earlier shards first."""
    empty = pl.lit([], dtype=pl.List(pl.String))
    names = [pl.col(name).fill_null(empty) for name in (f"{BEFORE}-{NAMES}", NAMES, f"{AFTER}-{NAMES}")]
    numbers = [pl.col(name).fill_null(0) for name in (f"{BEFORE}-{ALL}", ALL, f"{AFTER}-{ALL}")]
    return named.select(
        pl.concat_list(names).list.head(MOST_NAMED).alias(NAMES), pl.sum_horizontal(numbers).alias(ALL)
    ).get_columns()
