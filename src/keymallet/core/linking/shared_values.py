"""What only shows when all sources lie side by side: who is a manager, what is shared."""

from __future__ import annotations

from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.facts.declaration import ACCOUNT, FACTOR, KEY, PERSON
from keymallet.core.facts.evidence import ORIGIN, ROW
from keymallet.core.facts.model import Table
from keymallet.core.facts.reading import Reading

MOST_SHARED = 10
"""How many accounts are named that share a key; naming all of many for each of many would be their square."""


def drop_repeated_people(readings: list[Reading], tables: dict[str, pl.DataFrame]) -> None:
    """Keep of people who stand in several rosters what the first says, and say so."""
    people = tables.get(PERSON.name)
    if people is None:
        return
    again = ~people["person"].is_first_distinct()
    if again.any():
        repeated = people.filter(again)
        tables[PERSON.name] = people.filter(~again)
        for reading in readings:
            mine = repeated.filter(pl.col(ORIGIN).cast(pl.String) == reading.source)["person"]
            if len(mine):
                shown = ", ".join(mine.head(3)) + (" …" if len(mine) > 3 else "")
                told = f"{len(mine):,} people stand in an earlier roster, which counts: {shown}"
                reading.remarks.append(told)


def number_managers(tables: dict[str, pl.DataFrame]) -> None:
    """Where a manager is an account of the same source, put the number of its person."""
    accounts = tables[ACCOUNT.name]
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
    tables[ACCOUNT.name] = accounts


def mark_shared_keys(readings: list[Reading], tables: dict[str, pl.DataFrame]) -> None:
    """Enter, for each key, which accounts of other people hold the same one, and whether a root does."""
    suppliers = _suppliers(readings, KEY, "digest")
    if not suppliers:
        return
    keys, shared = _with_sharers(tables[KEY.name], tables, "digest")
    of_root = shared.filter(pl.col("root").any().over("value")).select(_PLACE, root=True)
    marked = keys.join(of_root, on=_PLACE, how="left", maintain_order="left")
    by_root = pl.when(pl.col("digest").is_not_null()).then(pl.col("root").fill_null(False))
    tables[KEY.name] = marked.with_columns(by_root.alias("shared-with-root")).drop(_PLACE, "root")
    for reading in suppliers:
        told = "the same key, over all sources"
        reading.supply[KEY.name] |= {"shared-with": told, "shared-with-root": told}


def mark_shared_devices(readings: list[Reading], tables: dict[str, pl.DataFrame]) -> None:
    """Enter, for each factor, which accounts of other people are proven by the same device.

    Where no device is told, a label that looks like a serial number stands for one.
    """
    suppliers = _suppliers(readings, FACTOR, "device")
    suppliers += [each for each in _suppliers(readings, FACTOR, "label") if each not in suppliers]
    if not suppliers:
        return
    factors = tables[FACTOR.name]
    told = [pl.col(name) for name in ("device",) if name in factors.columns]
    if "label" in factors.columns:
        told.append(pl.when(pl.col("label").str.contains(_A_SERIAL)).then(pl.col("label")))
    marked, _ = _with_sharers(factors.with_columns(pl.coalesce(told).alias(_DEVICE)), tables, _DEVICE)
    tables[FACTOR.name] = marked.drop(_PLACE, _DEVICE)
    for reading in suppliers:
        reading.supply[FACTOR.name] |= {"shared-with": "the same device, over all sources"}


_DEVICE = "device or serial"
_A_SERIAL = r"\d{5,}|\d[\dA-Fa-f]{7,}"
"""Five figures in a row, or eight of a hexadecimal number: `SN 10482233`, not `my phone 2`."""


def mark_shared_passwords(readings: list[Reading], tables: dict[str, pl.DataFrame]) -> None:
    """Enter which accounts of other people have the very same password, and take the digests away.

    What a password is stored as is nobody's business once copies have been seen.
    """
    suppliers = _suppliers(readings, ACCOUNT, _DIGEST)
    accounts = tables[ACCOUNT.name]
    if suppliers and _DIGEST in accounts.columns:
        held = accounts.select(pl.int_range(pl.len(), dtype=pl.UInt32).alias(ROW), _DIGEST)
        marked, _ = _with_sharers(held, tables, _DIGEST)
        tables[ACCOUNT.name] = accounts.with_columns(marked["shared-with"].alias("password-shared-with"))
        for reading in suppliers:
            told = "the same password, over all sources"
            reading.supply[ACCOUNT.name] |= {"password-shared-with": told}
    tables[ACCOUNT.name] = tables[ACCOUNT.name].drop(_DIGEST, strict=False)
    for reading in suppliers:
        del reading.supply[ACCOUNT.name][_DIGEST]


_DIGEST = "password-digest"


def count_password_days(readings: list[Reading], tables: dict[str, pl.DataFrame], clock: ZoneInfo) -> None:
    """Enter how many others of the same source had their password set on the same day of the clock."""
    suppliers = _suppliers(readings, ACCOUNT, "password-changed")
    if not suppliers:
        return
    accounts = tables[ACCOUNT.name]
    day = pl.col("password-changed").dt.convert_time_zone(clock.key).dt.date()
    others = pl.len().over("source", day).cast(pl.Int64) - 1
    counted = pl.when(pl.col("password-changed").is_not_null()).then(others).alias("password-set-with")
    tables[ACCOUNT.name] = accounts.with_columns(counted)
    for reading in suppliers:
        reading.supply[ACCOUNT.name] |= {"password-set-with": "all passwords side by side"}


def _suppliers(readings: list[Reading], table: Table, column: str) -> list[Reading]:
    return [each for each in readings if column in each.supply.get(table.name, {})]


def _with_sharers(
    rows: pl.DataFrame, tables: dict[str, pl.DataFrame], value: str
) -> tuple[pl.DataFrame, pl.DataFrame]:
    """The rows with `shared-with` entered and the place of each row; and the rows whose value is shared.

    Accounts of one login name or of one person are one holder: taking one's key along is no sharing.
    """
    rows = rows.with_row_index(_PLACE)
    holders = _holders(tables[ACCOUNT.name])
    held = rows.select(_PLACE, ROW, value=value).drop_nulls().join(holders, on=ROW, how="inner")
    # Only what several accounts hold can be shared: what follows is over that alone.
    shared = held.filter(pl.col(ROW).n_unique().over("value") > 1)
    # One account for each holder, and few of those: enough to name the most that are named.
    others = (
        shared.unique(["value", "who"], keep="first", maintain_order=True)
        .group_by("value", maintain_order=True)
        .head(MOST_SHARED + 2)
        .select("value", other="account", other_who="who", other_name="name")
    )
    named = (
        shared.join(others, on="value", how="inner", maintain_order="left")
        .filter((pl.col("other_who") != pl.col("who")) & (pl.col("other_name") != pl.col("name")))
        .group_by(_PLACE)
        .agg(pl.col("other").head(MOST_SHARED).alias("shared-with"))
    )
    marked = rows.join(named, on=_PLACE, how="left", maintain_order="left")
    nobody = pl.lit([], dtype=pl.List(pl.String))
    known = pl.when(pl.col(value).is_not_null()).then(pl.coalesce("shared-with", nobody))
    return marked.with_columns(known.alias("shared-with")), shared


_PLACE = "place"


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
