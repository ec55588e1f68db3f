"""What only shows when all sources lie side by side: whose account it is, and which keys are shared."""

from __future__ import annotations

import polars as pl

from keymallet.core import facts
from keymallet.core.evidence import ROW
from keymallet.core.reading import Reading

MOST_SHARED = 10
"""How many accounts are named that share a key; naming all of many for each of many would be their square."""


def tie_to_persons(readings: list[Reading], tables: dict[str, pl.DataFrame]) -> None:
    """Give accounts of people the person that another source knows by the same login name."""
    wishes = {each.source: each.persons_from for each in readings if each.persons_from}
    accounts = tables[facts.ACCOUNT.name]
    tellers = {each.source for each in readings if "person" in each.supply.get("account", {})}
    wishes = {source: teller for source, teller in wishes.items() if teller in tellers}
    if not wishes:
        return
    known = accounts.filter(pl.col("source").cast(pl.String).is_in(list(set(wishes.values()))))
    known = known.select(teller=pl.col("source").cast(pl.String), name="name", told="person")
    known = known.unique(["teller", "name"], keep="first")
    asked = accounts.select(
        "name",
        "kind",
        teller=pl.col("source").cast(pl.String).replace_strict(wishes, default=None, return_dtype=pl.String),
    )
    told = asked.join(known, on=["teller", "name"], how="left", maintain_order="left")
    person = pl.when((told["kind"] == "person").fill_null(False)).then(told["told"])
    own = [pl.col("person")] if "person" in accounts.columns else []
    tables[facts.ACCOUNT.name] = accounts.with_columns(pl.coalesce(*own, person).alias("person"))
    for reading in readings:
        if reading.source in wishes:
            reading.supply["account"]["person"] = f"{wishes[reading.source]}, the account of the same name"


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
