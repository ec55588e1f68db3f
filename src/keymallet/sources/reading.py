"""All sources of an estate, read and put together as evidence."""

from __future__ import annotations

import importlib
from collections.abc import Iterable
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from datetime import datetime
from types import ModuleType

import polars as pl

from keymallet.core.base.problems import KeymalletError, Problem, fail
from keymallet.core.facts.declaration import TABLES
from keymallet.core.facts.evidence import ROW, link_to_accounts, source_column, with_unread
from keymallet.core.facts.reading import Reading, Refusal
from keymallet.core.language.literals import span_text
from keymallet.core.linking.elevation_spans import mark_openings
from keymallet.core.linking.failures import count_locks
from keymallet.core.linking.gates import mark_gates
from keymallet.core.linking.person_matching import tie_to_persons
from keymallet.core.linking.reconciliation import reconcile
from keymallet.core.linking.shared_values import (
    count_password_days,
    drop_repeated_people,
    mark_shared_devices,
    mark_shared_keys,
    mark_shared_passwords,
    number_managers,
)
from keymallet.sources.estate import Estate, Source
from keymallet.sources.request import Nobody, Request, Watcher


@dataclass(frozen=True)
class Gathered:
    """What all sources together gave: one frame for each table that any of them supplies."""

    readings: list[Reading]
    tables: dict[str, pl.DataFrame]
    at: datetime


def gather(estate: Estate, at: datetime, watcher: Watcher | None = None) -> Gathered:
    """Read every source of the estate as of the instant `at`, and put together what they gave.

    Raises KeymalletError if a source cannot be read.
    """
    readings = read_sources(estate.sources, estate, at, watcher)
    problems = [problem for reading in readings for problem in reading.problems]
    if problems:
        raise KeymalletError(problems)
    return put_together(readings, estate, at)


def read_sources(
    sources: Iterable[Source], estate: Estate, at: datetime, watcher: Watcher | None = None
) -> list[Reading]:
    """Read sources side by side, each within its own bound of time; in the order given.

    One that cannot be read gives a reading that says why, and leaves the others standing.
    """
    readers = ThreadPoolExecutor(thread_name_prefix="source")
    try:
        told = watcher or Nobody()
        begun = [(source, readers.submit(_read, source, estate, at, told)) for source in sources]
        return [reading for source, future in begun for reading in _awaited(source, future)]
    finally:
        # One that is past its time is not waited for.
        readers.shutdown(wait=False, cancel_futures=True)


def _awaited(source: Source, future: Future[list[Reading]]) -> list[Reading]:
    try:
        return future.result(source.within.total_seconds())
    except TimeoutError:
        late = f'source "{source.name}" took longer than {span_text(source.within)}'
        return [
            Reading.not_read(source.name, (Problem(late, hint='within = "2h" in its section gives it more'),))
        ]
    except KeymalletError as error:
        return [Reading.not_read(source.name, error.problems)]


def _read(source: Source, estate: Estate, at: datetime, watcher: Watcher) -> list[Reading]:
    watcher.started(source.name)
    try:
        with ThreadPoolExecutor() as workers:
            request = Request(source.name, estate.folder, estate.clock, at, workers, watcher)
            readings: list[Reading] = _reader(source).read(source.section, request)
            for reading in readings:
                _set_impossible_aside(reading, at)
            request.note_files()
        return readings
    finally:
        watcher.ended(source.name)


def put_together(readings: list[Reading], estate: Estate, at: datetime) -> Gathered:
    """One body of evidence out of all readings, with what only shows when they lie side by side."""
    tables = _put_together(readings)
    drop_repeated_people(readings, tables)
    tie_to_persons(readings, tables, estate.ties)
    number_managers(tables)
    reconcile(readings, tables, estate.pairs, estate.clock)
    mark_shared_keys(readings, tables)
    mark_shared_devices(readings, tables)
    mark_shared_passwords(readings, tables)
    count_password_days(readings, tables, estate.clock)
    mark_gates(readings, tables)
    mark_openings(readings, tables)
    count_locks(readings, tables)
    return Gathered(readings, tables, at)


def _reader(source: Source) -> ModuleType:
    """The module that reads a source. Raises KeymalletError saying which extra it wants."""
    try:
        return importlib.import_module(source.reader.module)
    except ModuleNotFoundError as error:
        if error.name is None or error.name.startswith("keymallet"):
            raise
        extra = source.reader.extra
        hint = f"pip install 'keymallet[{extra}]'" if extra else f"pip install {error.name}"
        raise fail(f'source "{source.name}" needs the package {error.name}', hint=hint) from None


def _set_impossible_aside(reading: Reading, at: datetime) -> None:
    """A fact of something that has happened cannot lie after the reading: it becomes unknown."""
    for name, frame in reading.tables.items():
        past = [
            column.name for column in TABLES[name].columns if column.past and column.name in frame.columns
        ]
        ahead = {column: (frame[column] > at).fill_null(False) for column in past}
        ahead = {column: where for column, where in ahead.items() if where.any()}
        if not ahead:
            continue
        intake = reading.table_intake(name)
        for column, where in ahead.items():
            key = frame["name" if name == "account" else TABLES[name].names[0]]
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
    parts: dict[str, list[pl.DataFrame]] = {}
    first_row = 0
    for reading in readings:
        for name, frame in _linked(reading).items():
            table = TABLES[name]
            origin = pl.lit(reading.source, dtype=sources).alias(source_column(table))
            added = [origin, pl.col(ROW) + first_row] if table.of_account and first_row else [origin]
            parts.setdefault(name, []).append(frame.with_columns(added))
        first_row += reading.tables["account"].height
    ordered = [name for name in TABLES if name in parts]
    return {
        name: parts[name][0] if len(parts[name]) == 1 else pl.concat(parts[name], how="diagonal")
        for name in ordered
    }


def _linked(reading: Reading) -> dict[str, pl.DataFrame]:
    """The reading's tables with accounts called source/name, and the rows of the others tied to them."""
    prefix = pl.lit(reading.source + "/")
    tables = dict(reading.tables)
    belonging = [name for name in tables if TABLES[name].of_account]
    linked = link_to_accounts(tables["account"]["name"], [tables[name] for name in belonging])
    for name, frame in zip(belonging, linked, strict=True):
        orphans = frame.filter(pl.col(ROW).is_null())
        if orphans.height:
            _remark_orphans(reading, name, orphans["account"])
        tables[name] = frame.with_columns((prefix + pl.col("account")).alias("account"))
    tables["account"] = tables["account"].with_columns((prefix + pl.col("name")).alias("account"))
    return tables


def _remark_orphans(reading: Reading, table: str, names: pl.Series) -> None:
    shown = ", ".join(map(str, names.head(3)))
    more = f" and {len(names) - 3:,} more" if len(names) > 3 else ""
    reading.remarks.append(f"{table}: {len(names):,} rows name accounts that are not there: {shown}{more}")
