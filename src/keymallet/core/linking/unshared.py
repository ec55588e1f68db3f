"""Whether a value that should be one account's alone is another's as well."""

from __future__ import annotations

import polars as pl


def unshared(who: pl.Series, value: pl.Series, known: pl.Series, owner: pl.Series | None) -> pl.Series:
    """Whether each row's value is nobody else's, among the rows that `who` is true of.

    `known` says whether there is a value at all (None: that is not known either); `owner` is the account
    of each row, so that an account may have its own value twice. False where a row of another owner
    has it too; unknown where one that may count has it, or where the value is not known.
    """
    rows = pl.DataFrame({"who": who, "value": value, "known": known}).with_row_index("row")
    # A row without an account stands for an account of its own.
    own = pl.col("row").cast(pl.Int64)
    holder = own if owner is None else pl.coalesce(owner.cast(pl.Int64), -1 - own)
    rows = rows.with_columns(holder.alias("holder"))
    counting = rows.filter(pl.col("who").fill_null(True) & pl.col("value").is_not_null())
    # First by holder, then by value: what one account holds twice must not count as two holders.
    held = counting.group_by("value", "holder").agg(
        sure=pl.col("who").fill_null(False).any(), may=pl.lit(True).first()
    )
    holders = held.group_by("value").agg(sure=pl.col("sure").sum(), may=pl.len())
    mine = rows.join(holders, on="value", how="left", maintain_order="left").join(
        held.rename({"sure": "mine-sure", "may": "mine-may"}),
        on=["value", "holder"],
        how="left",
        maintain_order="left",
    )
    # Of all who hold the value, the row's own holder is taken out again.
    others_sure = pl.col("sure").fill_null(0) - pl.col("mine-sure").fill_null(False).cast(pl.UInt32)
    others_may = pl.col("may").fill_null(0) - pl.col("mine-may").fill_null(False).cast(pl.UInt32)
    answer = (
        pl.when(pl.col("value").is_null())
        .then(pl.when(~pl.col("known")).then(pl.lit(True)))
        .when(others_sure > 0)
        .then(pl.lit(False))
        .when(others_may == 0)
        .then(pl.lit(True))
    )
    return mine.select(answer.alias("unshared")).to_series()
