"""Whether a value that should be one account's alone is another's as well."""

from __future__ import annotations

import polars as pl

SURE, MAY = "sure", "may"
"""How many holders of a value count, and how many may count."""


def unshared(
    who: pl.Series,
    value: pl.Series,
    known: pl.Series,
    owner: pl.Series | None,
    elsewhere: pl.DataFrame | None = None,
) -> pl.Series:
    """Whether each row's value is nobody else's, among the rows that `who` is true of.

    `known` says whether there is a value at all (None: that is not known either); `owner` is the account
    of each row, so that an account may have its own value twice. False where a row of another owner
    has it too; unknown where one that may count has it, or where the value is not known. `elsewhere` is SURE
    and MAY of each row's value among owners that have no row here; None where there are no others.
    """
    rows = _rows(who, value, owner).with_columns(known.alias("known"))
    held = _held(rows)
    mine = rows.join(_holders(held), on="value", how="left", maintain_order="left").join(
        held.rename({SURE: "mine-sure", MAY: "mine-may"}),
        on=["value", "holder"],
        how="left",
        maintain_order="left",
    )
    # Of all who hold the value, the row's own holder is taken out again.
    others_sure = pl.col(SURE).fill_null(0) - pl.col("mine-sure").fill_null(False).cast(pl.UInt32)
    others_may = pl.col(MAY).fill_null(0) - pl.col("mine-may").fill_null(False).cast(pl.UInt32)
    if elsewhere is not None:
        mine = mine.hstack(elsewhere.select(pl.col(SURE, MAY).fill_null(0).name.suffix("-elsewhere")))
        others_sure += pl.col(f"{SURE}-elsewhere")
        others_may += pl.col(f"{MAY}-elsewhere")
    answer = (
        pl.when(pl.col("value").is_null())
        .then(pl.when(~pl.col("known")).then(pl.lit(True)))
        .when(others_sure > 0)
        .then(pl.lit(False))
        .when(others_may == 0)
        .then(pl.lit(True))
    )
    return mine.select(answer.alias("unshared")).to_series()


def holders(who: pl.Series, value: pl.Series, owner: pl.Series | None) -> pl.DataFrame:
    """Each `value` that counts or may count, with SURE and MAY; arguments as for `unshared`."""
    return _holders(_held(_rows(who, value, owner)))


def _rows(who: pl.Series, value: pl.Series, owner: pl.Series | None) -> pl.DataFrame:
    rows = pl.DataFrame({"who": who, "value": value}).with_row_index("row")
    # A row without an account stands for an account of its own.
    own = pl.col("row").cast(pl.Int64)
    holder = own if owner is None else pl.coalesce(owner.cast(pl.Int64), -1 - own)
    return rows.with_columns(holder.alias("holder"))


def _held(rows: pl.DataFrame) -> pl.DataFrame:
    """By holder, and then by value: what one account holds twice must not count as two holders."""
    counting = rows.filter(pl.col("who").fill_null(True) & pl.col("value").is_not_null())
    return counting.group_by("value", "holder").agg(
        pl.col("who").fill_null(False).any().alias(SURE), pl.lit(True).first().alias(MAY)
    )


def _holders(held: pl.DataFrame) -> pl.DataFrame:
    return held.group_by("value").agg(pl.col(SURE).sum(), pl.len().alias(MAY))
