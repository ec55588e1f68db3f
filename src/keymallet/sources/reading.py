"""Sources of an estate, read side by side."""

from __future__ import annotations

import importlib
import time
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import replace
from datetime import datetime
from functools import partial
from itertools import islice
from operator import attrgetter
from types import ModuleType
from typing import Any

import polars as pl
from msgspec import structs

from keymallet.core.base.problems import KeymalletError, Problem, fail
from keymallet.core.facts.declaration import TABLES
from keymallet.core.facts.evidence import with_unread
from keymallet.core.facts.reading import Reading, Refusal
from keymallet.core.language.literals import span_text
from keymallet.engines.spool import Spool, Spooled
from keymallet.sources.estate import Estate, Source
from keymallet.sources.request import Nobody, Request, Watcher
from keymallet.sources.shared.secret import Secret


def read_sources(
    sources: Iterable[Source],
    estate: Estate,
    at: datetime,
    watcher: Watcher | None = None,
    spool: Spool | None = None,
) -> list[Reading]:
    """Read sources side by side, each within its own bound of time; in the order given.

    One that cannot be read gives a reading that says why, and leaves the others standing. With a `spool`,
    large tables are left there.
    """
    wanted = list(sources)
    # A thread for each: those that hang must not keep the others from beginning.
    readers = ThreadPoolExecutor(max(1, len(wanted)), thread_name_prefix="source")
    try:
        listener = watcher or Nobody()
        start = time.monotonic()
        begun = [(source, readers.submit(_read, source, estate, at, listener, spool)) for source in wanted]
        return [reading for source, future in begun for reading in _awaited(source, future, start)]
    finally:
        # One that is past its time is not waited for.
        readers.shutdown(wait=False, cancel_futures=True)


def _awaited(source: Source, future: Future[list[Reading]], start: float) -> list[Reading]:
    """What a source gave within its own time, counted from when all began."""
    left = start + source.within.total_seconds() - time.monotonic()
    try:
        return future.result(max(left, 0.0))
    except TimeoutError:
        late = f'source "{source.name}" took longer than {span_text(source.within)}'
        return [
            Reading.not_read(source.name, (Problem(late, hint='within = "2h" in its section gives it more'),))
        ]
    except KeymalletError as error:
        return [Reading.not_read(source.name, error.problems)]


@contextmanager
def secrets_kept(request: Request) -> Iterator[None]:
    """Take what the request signs in with out of whatever goes wrong meanwhile."""
    try:
        yield
    except KeymalletError as error:
        raise KeymalletError(map(partial(_without_secrets, request.secrets), error.problems)) from None


def ask_source(
    source: Source, request: Request, ask: Callable[[Any, Request], list[Reading]]
) -> list[Reading]:
    """What a source's module answers; no secret comes back in it. Raises KeymalletError."""
    with secrets_kept(request):
        readings = ask(source.section, request)
    for reading in readings:
        _take_out(reading, request.secrets)
    return readings


def _read(
    source: Source, estate: Estate, at: datetime, watcher: Watcher, spool: Spool | None
) -> list[Reading]:
    watcher.started(source.name)
    try:
        with ThreadPoolExecutor() as workers:
            request = Request(source.name, estate.folder, estate.clock, at, workers, watcher, spool=spool)
            readings = ask_source(source, request, reader_of(source).read)
            for reading in readings:
                _set_impossible_aside(reading, reading.as_of or at)
                reading.known = _known(reading)
            request.note_files()
        return readings
    finally:
        watcher.ended(source.name)


def reader_of(source: Source) -> ModuleType:
    """The module that reads a source. Raises KeymalletError saying which extra it wants."""
    try:
        return importlib.import_module(source.reader.module)
    except ModuleNotFoundError as error:
        if error.name is None or error.name.startswith("keymallet"):
            raise
        extra = source.reader.extra
        hint = f"pip install 'keymallet[{extra}]'" if extra else f"pip install {error.name}"
        raise fail(f'source "{source.name}" needs the package {error.name}', hint=hint) from None


def _without_secrets(secrets: list[Secret], problem: Problem) -> Problem:
    """What went wrong, without what the reader signed in with, though the other side has told it."""
    message, hint = problem.message, problem.hint
    for secret in secrets:
        message, hint = secret.hidden_in(message), secret.hidden_in(hint)
    return replace(problem, message=message, hint=hint)


def _take_out(reading: Reading, secrets: list[Secret]) -> None:
    """Take the reader's own secrets out of a reading's notes and texts: the other side may echo them."""
    for secret in filter(attrgetter("is_long"), secrets):
        hide = secret.hidden_in
        for notes in (reading.remarks, reading.incomplete, reading.referrals):
            notes[:] = map(hide, notes)
        for intake in reading.intake.values():
            for refusals in (intake.refusals, intake.unreadable_cells):
                refusals[:] = [structs.replace(refusal, reason=hide(refusal.reason)) for refusal in refusals]
        for name, frame in reading.tables.items():
            texts = [column for column, kind in frame.schema.items() if kind == pl.String]
            hidden = pl.col(texts).str.replace_all(secret.reveal(), "…", literal=True)
            reading.tables[name] = frame.with_columns(hidden) if texts else frame


def _known(reading: Reading) -> dict[str, dict[str, int]]:
    """How many values are known of each fact that is supplied; and under "" how many rows there are."""
    known = {}
    for table, frame in reading.tables.items():
        spooled = _spooled(reading, table)
        known[table] = {"": reading.height(table)} | {
            name: spooled.known(name) if spooled else frame.height - frame[name].null_count()
            for name in reading.supply.get(table, {})
            if name in frame.columns
        }
    return known


def _spooled(reading: Reading, table: str) -> Spooled | None:
    """The rows of a table that were put on disk while the source was read; None if they are held."""
    rows = reading.on_disk.get(table)
    assert rows is None or isinstance(rows, Spooled)
    return rows


def _set_impossible_aside(reading: Reading, at: datetime) -> None:
    """A fact of something that has happened cannot lie after the reading: it becomes unknown."""
    for name, frame in reading.tables.items():
        past = [
            column.name for column in TABLES[name].columns if column.past and column.name in frame.columns
        ]
        if not past:
            continue
        spooled = _spooled(reading, name)
        if spooled is None:
            reading.tables[name] = _possible(frame, frame, name, past, at, reading)
            continue
        narrow = reading.parts(name, {*past, TABLES[name].required})
        for number, part in enumerate(narrow):
            if any(column in part.columns and (part[column] > at).any() for column in past):
                whole = next(islice(reading.parts(name), number, None))
                there = [column for column in past if column in whole.columns]
                spooled.replace(number, _possible(whole, part, name, there, at, reading))


def _possible(
    frame: pl.DataFrame, told: pl.DataFrame, table: str, past: list[str], at: datetime, reading: Reading
) -> pl.DataFrame:
    """The rows without what lies after the reading, with a note on each."""
    ahead = {column: (told[column] > at).fill_null(False) for column in past}
    ahead = {column: where for column, where in ahead.items() if where.any()}
    if not ahead:
        return frame
    intake = reading.table_intake(table)
    for column, where in ahead.items():
        first = told.select(key=TABLES[table].required, value=column).filter(where).head(100)
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
    return with_unread(cleared, ahead)
