"""One frame for each table, out of the readings of all sources: the start of linking."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

from keymallet.core.base.listing import some_names
from keymallet.core.facts.declaration import ACCOUNT, TABLES
from keymallet.core.facts.evidence import ACCOUNT_ROW, link_to_accounts, source_column
from keymallet.core.facts.reading import Reading
from keymallet.core.linking.linked import LinkedReadings


def assemble(readings: Sequence[Reading]) -> LinkedReadings:
    """The tables of all readings as one frame each: the sources in their order, each row with its source.

    Accounts are called `source/name` from here on, and rows of other tables know the row of their account.
    A row that names no account of its source is kept, and remarked on.
    """
    # An enumeration, so that a source's name takes few bytes in each of millions of rows.
    sources = pl.Enum([reading.source for reading in readings])
    parts: dict[str, list[pl.DataFrame]] = {}
    remarks: dict[str, list[str]] = {}
    first_row = 0
    for reading in readings:
        frames, remarks[reading.source] = _linked_to_accounts(reading)
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
    return LinkedReadings(tuple(readings), tables).remarking(remarks)


def _linked_to_accounts(reading: Reading) -> tuple[dict[str, pl.DataFrame], list[str]]:
    """A reading's tables with rows tied to accounts called source/name; and remarks on rows that are not."""
    prefix = pl.lit(reading.source + "/")
    tables = dict(reading.tables)
    belonging = [name for name in tables if TABLES[name].of_account]
    linked = link_to_accounts(tables[ACCOUNT.name]["name"], [tables[name] for name in belonging])
    remarks = []
    for name, frame in zip(belonging, linked, strict=True):
        orphans = frame.filter(pl.col(ACCOUNT_ROW).is_null())["account"]
        if len(orphans):
            shown = some_names(orphans)
            remarks.append(f"{name}: {len(orphans):,} rows name accounts that are not there: {shown}")
        tables[name] = frame.with_columns((prefix + pl.col("account")).alias("account"))
    tables[ACCOUNT.name] = tables[ACCOUNT.name].with_columns((prefix + pl.col("name")).alias("account"))
    return tables, remarks
