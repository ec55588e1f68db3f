"""Rows to fact tables: what readers that go row by row share."""

from __future__ import annotations

from typing import Any

import polars as pl

from keymallet.core.facts.evidence import UNREAD, data_type
from keymallet.core.facts.model import Table
from keymallet.core.facts.reading import Reading


def enter_table(
    reading: Reading,
    table: Table,
    rows: list[dict[str, Any]],
    supply: dict[str, str],
    read: int | None = None,
) -> None:
    """Enter rows into a reading as the table they are of, with the columns that are supplied.

    `read` counts what was really read, where some rows only stand for what is not known.
    """
    schema: dict[str, Any] = {
        column.name: data_type(column) for column in table.columns if column.name in supply
    }
    if any(UNREAD in row for row in rows):
        schema[UNREAD] = pl.List(pl.String)
    reading.tables[table.name] = pl.DataFrame(rows, schema=schema)
    reading.supply[table.name] = supply
    reading.table_intake(table.name).read += len(rows) if read is None else read
