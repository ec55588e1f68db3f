"""Which of a source's settings is in force for which account."""

from __future__ import annotations

import polars as pl

from keymallet.core.linking.settings_as_meant import EVERYONE

SETTING_ROW = "setting-row"
"""Column of accounts: the row of the setting in force for it, or null."""


def settings_in_force(accounts: pl.DataFrame, settings: pl.DataFrame) -> pl.Series:
    """The row of the setting that is in force for each account; null if none is, or it cannot be told.

    What names the account goes before what names a group of its, that before its kind, that before
    everyone. Where two settings name it alike, it cannot be told which is in force.
    """
    if not settings.height:
        return pl.Series([None], dtype=pl.UInt32).new_from_index(0, accounts.height)
    named = settings.select(
        pl.col("source").cast(pl.String),
        pl.col("applies-to").fill_null([EVERYONE]).alias("to"),
    ).with_row_index(SETTING_ROW)
    by_target = named.explode("to").drop_nulls("to")
    rows = accounts.lazy().with_row_index("row").with_columns(pl.col("source").cast(pl.String))
    # In the order of their rank: what names an account more closely goes before what names it more widely.
    ways = [
        rows.select("row", "source", to="name"),
        rows.select("row", "source", to="groups").explode("to"),
        rows.select("row", "source", to=pl.col("kind").cast(pl.String)),
        rows.select("row", "source", to=pl.lit(EVERYONE)),
    ]
    candidates = pl.concat(
        [
            way.drop_nulls("to")
            .join(by_target.lazy(), on=["source", "to"], how="inner")
            .select("row", SETTING_ROW, rank=pl.lit(rank, dtype=pl.Int8))
            for rank, way in enumerate(ways)
        ]
    )
    nearest = candidates.filter(pl.col("rank") == pl.col("rank").min().over("row")).unique(
        ["row", SETTING_ROW]
    )
    # Two settings of the same rank contradict each other: then none is known to be in force.
    single = nearest.group_by("row").agg(pl.col(SETTING_ROW).first(), pl.len()).filter(pl.col("len") == 1)
    return rows.select("row").join(single, on="row", how="left", maintain_order="left").collect()[SETTING_ROW]
