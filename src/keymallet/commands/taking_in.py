"""Reading the sources of an estate into a snapshot."""

from __future__ import annotations

import sys
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import datetime

from keymallet import __version__
from keymallet.core.base.problems import KeymalletError, fail
from keymallet.core.base.source_names import is_of
from keymallet.core.facts.reading import Reading
from keymallet.core.linking.passes import link
from keymallet.sources.estate import Estate
from keymallet.sources.reading import read_sources
from keymallet.sources.request import Watcher
from keymallet.store.carry import Earlier, drops, mark_renames, not_read
from keymallet.store.snapshot import Snapshot, newest_snapshot, write_snapshot
from keymallet.views.progress import bars


@contextmanager
def watched() -> Iterator[Watcher | None]:
    """Bars that tell how far the sources are, if somebody is watching; else nothing is even loaded for it."""
    if not sys.stderr.isatty():
        yield None
        return

    with bars() as watcher:
        yield watcher


def read_into_snapshot(
    estate: Estate, at: datetime, *, only: Sequence[str] = (), accept_drop: bool = False
) -> Snapshot:
    """Read the sources of the estate and write them as a new snapshot.

    With `only`, the others are taken over from the newest snapshot as they were read then. Raises
    KeymalletError if nothing could be read, or if a source has lost more accounts than is taken in silence.
    """
    earlier, passed_over = _earlier(estate)
    readings = _readings(estate, at, earlier, only)
    fresh = [reading for reading in readings if reading.read_at is None and not reading.failed]
    if not fresh:
        raise KeymalletError(dict.fromkeys(problem for reading in readings for problem in reading.problems))
    lost = [
        problem
        for source in estate.sources
        for problem in drops(readings, source.name, earlier, estate.largest_drop)
    ]
    if lost and not accept_drop:
        raise KeymalletError(lost)
    for reading in fresh:
        mark_renames(reading, earlier)
    if passed_over:
        fresh[0].remarks.append(passed_over)
    linked = link(readings, estate.linking)
    return write_snapshot(
        estate.snapshots,
        version=__version__,
        organisation=estate.organisation,
        clock=estate.clock.key,
        read_at=at,
        readings=linked.readings,
        tables=linked.tables,
    )


def _earlier(estate: Estate) -> tuple[Earlier | None, str]:
    """The newest snapshot; or none, and a remark, where that cannot be read: a new one has to get past it."""
    try:
        newest = newest_snapshot(estate.snapshots)
    except KeymalletError as error:
        problem = error.problems[0]
        return (
            None,
            f"nothing was held against the snapshot before this one: {problem.place}: {problem.message}",
        )
    return (Earlier(newest) if newest else None), ""


def _readings(estate: Estate, at: datetime, earlier: Earlier | None, only: Sequence[str]) -> list[Reading]:
    """Every source's reading in the estate's order: read now, taken over, or carried as not read."""
    wanted = estate.chosen(only)
    if only and earlier is None and len(wanted) < len(estate.sources):
        hint = "read all once, without --only"
        raise fail("there is no snapshot yet to take the other sources from", hint=hint)
    with watched() as watcher:
        read = read_sources(wanted, estate, at, watcher)
    readings: list[Reading] = []
    for source in estate.sources:
        if source not in wanted:
            assert earlier is not None
            readings += earlier.readings_of(source.name)
            continue
        for reading in (own for own in read if is_of(own.source, source.name)):
            readings += not_read(reading, earlier) if reading.failed else [reading]
    return readings
