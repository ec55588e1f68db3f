"""What only shows when all sources lie side by side: who is a manager, and which keys are shared."""

from __future__ import annotations

import polars as pl

from keymallet.core import facts
from keymallet.core.evidence import ORIGIN, ROW
from keymallet.core.reading import Reading

MOST_SHARED = 10
"""How many accounts are named that share a key; naming all of many for each of many would be their square."""


def drop_repeated_people(readings: list[Reading], tables: dict[str, pl.DataFrame]) -> None:
    """Keep of people who stand in several rosters what the first says, and say so."""
    people = tables.get(facts.PERSON.name)
    if people is None:
        return
    again = ~people["person"].is_first_distinct()
    if again.any():
        repeated = people.filter(again)
        tables[facts.PERSON.name] = people.filter(~again)
        for reading in readings:
            mine = repeated.filter(pl.col(ORIGIN).cast(pl.String) == reading.source)["person"]
            if len(mine):
                shown = ", ".join(mine.head(3)) + (" …" if len(mine) > 3 else "")
                told = f"{len(mine):,} people stand in an earlier roster, which counts: {shown}"
                reading.remarks.append(told)


def number_managers(tables: dict[str, pl.DataFrame]) -> None:
    """Where a manager is an account of the same source, put the number of its person."""
    accounts = tables[facts.ACCOUNT.name]
    if (
        not {"manager", "person"} <= set(accounts.columns)
        or accounts["manager"].null_count() == accounts.height
    ):
        return
    for by in ("name", "stable-id"):
        if by not in accounts.columns:
            continue
        known = accounts.select("source", "person", manager=by).drop_nulls()
        known = known.unique(["source", "manager"], keep="none").rename({"person": "number"})
        found = accounts.join(known, on=["source", "manager"], how="left", maintain_order="left")
        accounts = found.with_columns(pl.coalesce("number", "manager").alias("manager")).drop("number")
    tables[facts.ACCOUNT.name] = accounts


def mark_shared_keys(readings: list[Reading], tables: dict[str, pl.DataFrame]) -> None:
    """Enter, for each key, which accounts of other people hold the same one, and whether a root does.

    Accounts of one login name or of one person are one holder: taking one's key along is no sharing.
    """
    suppliers = [each for each in readings if "digest" in each.supply.get(facts.KEY.name, {})]
    if not suppliers:
        return
    keys = tables[facts.KEY.name].with_row_index(_KEY)
    holders = _holders(tables[facts.ACCOUNT.name])
    held = keys.select(_KEY, ROW, "digest").drop_nulls().join(holders, on=ROW, how="inner")
    # Only keys that several accounts hold can be shared: what follows is over those alone.
    shared = held.filter(pl.col(ROW).n_unique().over("digest") > 1)
    # One account for each holder, and few of those: enough to name the most that are named.
    others = (
        shared.unique(["digest", "who"], keep="first", maintain_order=True)
        .group_by("digest", maintain_order=True)
        .head(MOST_SHARED + 2)
        .select("digest", other="account", other_who="who", other_name="name")
    )
    named = (
        shared.join(others, on="digest", how="inner", maintain_order="left")
        .filter((pl.col("other_who") != pl.col("who")) & (pl.col("other_name") != pl.col("name")))
        .group_by(_KEY)
        .agg(pl.col("other").head(MOST_SHARED).alias("shared-with"))
    )
    of_root = shared.filter(pl.col("root").any().over("digest")).select(_KEY, root=True)
    marked = keys.join(named, on=_KEY, how="left", maintain_order="left")
    marked = marked.join(of_root, on=_KEY, how="left", maintain_order="left")
    known = pl.col("digest").is_not_null()
    nobody = pl.lit([], dtype=pl.List(pl.String))
    tables[facts.KEY.name] = marked.with_columns(
        pl.when(known).then(pl.coalesce("shared-with", nobody)).alias("shared-with"),
        pl.when(known).then(pl.col("root").fill_null(False)).alias("shared-with-root"),
    ).drop(_KEY, "root")
    for reading in suppliers:
        told = "the same key, over all sources"
        reading.supply[facts.KEY.name] |= {"shared-with": told, "shared-with-root": told}


_KEY = "key-row"


def _holders(accounts: pl.DataFrame) -> pl.DataFrame:
    """Who holds each account, by its row, and whether it is root on its host."""
    nothing = pl.lit(None, dtype=pl.String)
    person, ident = (
        pl.col(name) if name in accounts.columns else nothing for name in ("person", "stable-id")
    )
    return accounts.select(
        pl.int_range(pl.len(), dtype=pl.UInt32).alias(ROW),
        "account",
        "name",
        who=pl.coalesce(person, "name"),
        root=(ident == "0").fill_null(False),
    )
