"""All sources of an estate, read and put together as evidence."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime

import polars as pl

from keymallet.core import facts
from keymallet.core.evidence import ORIGIN, ROW, link_to_accounts, source_column, with_unread
from keymallet.core.reading import Reading, Refusal
from keymallet.sources.estate import Estate
from keymallet.sources.request import Request


@dataclass(frozen=True)
class Gathered:
    """What all sources together gave: one frame for each table that any of them supplies."""

    readings: list[Reading]
    tables: dict[str, pl.DataFrame]
    at: datetime


def gather(estate: Estate, at: datetime, tell: Callable[[str], None] = lambda name: None) -> Gathered:
    """Read every source of the estate as of the instant `at`; `tell` is called with each one's name.

    Raises KeymalletError if a source cannot be read at all.
    """
    readings: list[Reading] = []
    for source in estate.sources:
        tell(source.name)
        for reading in source.read(source.section, Request(source.name, estate.folder, estate.clock, at)):
            _set_impossible_aside(reading, at)
            readings.append(reading)
    return Gathered(readings, _put_together(readings), at)


def _set_impossible_aside(reading: Reading, at: datetime) -> None:
    """A fact of something that has happened cannot lie after the reading: it becomes unknown."""
    for name, frame in reading.tables.items():
        past = [
            column.name
            for column in facts.TABLES[name].columns
            if column.past and column.name in frame.columns
        ]
        ahead = {column: (frame[column] > at).fill_null(False) for column in past}
        ahead = {column: where for column, where in ahead.items() if where.any()}
        if not ahead:
            continue
        intake = reading.table_intake(name)
        for column, where in ahead.items():
            key = frame[frame.columns[0] if name != "account" else "account"]
            first = frame.select(key=key, value=column).filter(where).head(100)
            intake.cannot_read(
                int(where.sum()),
                (
                    Refusal(
                        reading.source,
                        0,
                        f"{row[0]}: {row[1]:%Y-%m-%d %H:%M}Z lies after the reading",
                        column,
                    )
                    for row in first.iter_rows()
                ),
            )
        cleared = frame.with_columns(
            pl.when(~where).then(pl.col(column)).alias(column) for column, where in ahead.items()
        )
        reading.tables[name] = with_unread(cleared, ahead)


def _put_together(readings: list[Reading]) -> dict[str, pl.DataFrame]:
    """One frame a table: the sources in the estate's order, each row with its source."""
    sources = pl.Enum([reading.source for reading in readings])
    tables: dict[str, pl.DataFrame] = {}
    for table in facts.TABLES.values():
        parts = [
            reading.tables[table.name].with_columns(
                pl.lit(reading.source, dtype=sources).alias(source_column(table))
            )
            for reading in readings
            if table.name in reading.tables
        ]
        if parts:
            tables[table.name] = parts[0] if len(parts) == 1 else pl.concat(parts, how="diagonal")
    belonging = [name for name in tables if facts.TABLES[name].of_account]
    tables.update(
        zip(belonging, link_to_accounts(tables["account"], [tables[name] for name in belonging]), strict=True)
    )
    for name in belonging:
        _count_orphans(name, tables[name], readings)
    return tables


def _count_orphans(name: str, frame: pl.DataFrame, readings: list[Reading]) -> None:
    orphans = frame.filter(pl.col(ROW).is_null())
    if orphans.is_empty():
        return
    for reading in readings:
        mine = orphans.filter(pl.col(ORIGIN) == reading.source)["account"].to_list()
        if mine:
            shown = ", ".join(map(str, mine[:3]))
            more = f" and {len(mine) - 3:,} more" if len(mine) > 3 else ""
            reading.remarks.append(
                f"{name}: {len(mine):,} rows name accounts that are not there: {shown}{more}"
            )
