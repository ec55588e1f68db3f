"""One frame for each table, out of the readings of all sources: the start of linking."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import polars as pl
from msgspec.structs import replace as replace_in

from keymallet.core.base.listing import how_many, some_names
from keymallet.core.facts.declaration import ACCOUNT, SIGN_IN, TABLES
from keymallet.core.facts.evidence import (
    ACCOUNT_ROW,
    NOTHING_KNOWN,
    STRAYS,
    UNREAD,
    link_to_accounts,
    source_column,
)
from keymallet.core.facts.reading import Reading, TableIntake
from keymallet.core.linking.linked import LinkedReadings


def assemble(readings: Sequence[Reading]) -> LinkedReadings:
    """The tables of all readings as one frame each: the sources in their order, each row with its source.

    Accounts are called `source/name` from here on, and rows of other tables know the row of their account.
    A row that names no account of its source is kept and counted. It might be anybody's there: what rests
    on having no row is not known for the accounts of that source that have none. Of sign-ins, such rows are
    counted and let go: a name that is nobody's may be a password, typed into the wrong field.
    """
    # An enumeration, so that a source's name takes few bytes in each of millions of rows.
    sources = pl.Enum([reading.source for reading in readings])
    parts: dict[str, list[pl.DataFrame]] = {}
    assembled = []
    first_row = 0
    for reading in readings:
        frames, noted = _linked_to_accounts(reading)
        assembled.append(noted)
        for name, frame in frames.items():
            table = TABLES[name]
            origin = pl.lit(reading.source, dtype=sources).alias(source_column(table))
            # Rows of accounts are numbered within their own reading until here.
            moved = [pl.col(ACCOUNT_ROW) + first_row] if table.of_account and first_row else []
            parts.setdefault(name, []).append(frame.with_columns(origin, *moved))
        first_row += reading.tables[ACCOUNT.name].height
    tables = {
        name: parts[name][0] if len(parts[name]) == 1 else pl.concat(parts[name], how="diagonal")
        for name in TABLES
        if name in parts
    }
    return LinkedReadings(tuple(assembled), tables)


def _would_be_found(strays: pl.Series, accounts: pl.DataFrame) -> tuple[str, int]:
    """By which fact most rows that name nobody would find their account, and how many; ("", 0) by none."""
    best = ("", 0)
    for name in ("mail", "stable-id", "name") if len(strays) else ():
        if name in accounts.columns:
            known = accounts[name].drop_nulls()
            folded = name == "name"
            found = (strays.str.to_lowercase() if folded else strays).is_in(
                (known.str.to_lowercase() if folded else known).implode()
            )
            best = max(best, (name, int(found.sum())), key=lambda each: each[1])
    return best if best[1] * 2 > len(strays) else ("", 0)


def _linked_to_accounts(reading: Reading) -> tuple[dict[str, pl.DataFrame], Reading]:
    """A reading's tables with rows tied to accounts called source/name; the reading with notes on strays."""
    prefix = pl.lit(reading.source + "/")
    tables = dict(reading.tables)
    intake = dict(reading.intake)
    remarks = list(reading.remarks)
    accounts = tables[ACCOUNT.name]
    belonging = [name for name in tables if TABLES[name].of_account]
    linked = link_to_accounts(accounts["name"], [tables[name] for name in belonging])
    for name, frame in zip(belonging, linked, strict=True):
        strays = frame.filter(pl.col(ACCOUNT_ROW).is_null())["account"]
        if name == SIGN_IN.name and len(strays):
            remarks.append(_nobodys_sign_ins(len(strays)))
            frame = frame.filter(pl.col(ACCOUNT_ROW).is_not_null())
            strays = strays.clear()
        expected = reading.strays_expected
        if len(strays) and expected:
            remarks.append(
                f"{name}: {len(strays):,} rows name accounts that are not there: {some_names(strays)}"
            )
        if len(strays) and not expected:
            frame = _open_where_there_is_none(frame, accounts.height)
        noted = intake.get(name, TableIntake())
        few = [] if expected else strays.unique(maintain_order=True).head(_NAMES_KEPT).to_list()
        by, found = ("", 0) if expected else _would_be_found(strays, accounts)
        intake[name] = replace_in(
            noted, strays=0 if expected else len(strays), stray_names=few, stray_by=by, found_by=found
        )
        tables[name] = frame.with_columns((prefix + pl.col("account")).alias("account"))
    tables[ACCOUNT.name] = accounts.with_columns((prefix + pl.col("name")).alias("account"))
    return tables, replace(reading, intake=intake, remarks=list(dict.fromkeys(remarks)))


_NAMES_KEPT = 20


def _nobodys_sign_ins(number: int) -> str:
    """The remark on sign-ins that name nobody; without the names."""
    return (
        f"sign-in: {how_many(number, 'attempt names', 'attempts name')} nobody here; the names are not kept"
    )


def _open_where_there_is_none(frame: pl.DataFrame, accounts: int) -> pl.DataFrame:
    """The rows, and one for each account without any, which says that it is not known whether it has one."""
    everybody = pl.DataFrame({ACCOUNT_ROW: pl.int_range(accounts, dtype=pl.UInt32, eager=True)})
    without = everybody.join(frame, on=ACCOUNT_ROW, how="anti")
    unread = pl.lit([NOTHING_KNOWN, STRAYS], dtype=pl.List(pl.String)).alias(UNREAD)
    return pl.concat([frame, without.with_columns(unread)], how="diagonal")
