"""Reading the sources of an estate into a snapshot."""

from __future__ import annotations

import sys
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import datetime
from functools import partial

from keymallet import __version__
from keymallet.core.base.listing import some_names
from keymallet.core.base.problems import KeymalletError, fail
from keymallet.core.base.source_names import is_of
from keymallet.core.facts.declaration import ACCOUNT
from keymallet.core.facts.reading import Reading
from keymallet.core.facts.shards import shards_for
from keymallet.core.linking.passes import link
from keymallet.engines.spool import Spool
from keymallet.sources.estate import Estate
from keymallet.sources.reading import read_sources
from keymallet.sources.request import Watcher
from keymallet.store.attempts import attempt
from keymallet.store.carry import Earlier, drops, mark_emptied, mark_renames, mark_shrunk, not_read
from keymallet.store.newest import Found, find_newest
from keymallet.store.snapshot import Snapshot, write_snapshot
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
    with (
        attempt(estate.snapshots, estate.identity) as recorder,
        # Beside the snapshots, since there is room for them.
        Spool(estate.snapshots) as spool,
    ):
        snapshot = _read(estate, at, spool, only=only, accept_drop=accept_drop)
        recorder.made(snapshot.digest)
    return snapshot


def _read(estate: Estate, at: datetime, spool: Spool, *, only: Sequence[str], accept_drop: bool) -> Snapshot:
    found = find_newest(estate.snapshots, estate.identity, at)
    earlier = Earlier(found.snapshot) if found.snapshot else None
    readings = _readings(estate, at, spool, earlier, only)
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
        if not accept_drop:
            mark_emptied(reading, earlier)
            mark_shrunk(reading, earlier)
    fresh[0].remarks += _remarks(found)
    write = partial(
        write_snapshot,
        estate.snapshots,
        version=__version__,
        estate=estate.identity,
        organisation=estate.organisation,
        clock=estate.clock.key,
        read_at=at,
        before=found.snapshot,
        passed_over=[name for name, _ in found.unreadable],
    )
    shards = estate.shards or shards_for(sum(reading.height(ACCOUNT.name) for reading in readings))
    if shards > 1:
        from keymallet.sharded.linking import ReadingsInShards

        return write(tables=ReadingsInShards(readings, estate.linking, shards))
    linked = link(readings, estate.linking)
    return write(readings=linked.readings, tables=linked.tables)


def _remarks(found: Found) -> list[str]:
    """What lies among the snapshots and was not held against this one: it has to get past that."""
    remarks = list(found.passed_over)
    for name, error in found.unreadable:
        remarks.append(f"nothing was held against {name}: {error.problems[0].message}")
    if found.from_future:
        remarks.append(f"passed over, from after now: {some_names(found.from_future)}")
    return remarks


def _readings(
    estate: Estate, at: datetime, spool: Spool, earlier: Earlier | None, only: Sequence[str]
) -> list[Reading]:
    """Every source's reading in the estate's order: read now, taken over, or carried as not read."""
    wanted = estate.chosen(only)
    if only and earlier is None and len(wanted) < len(estate.sources):
        hint = "read all once, without --only"
        raise fail("there is no snapshot yet to take the other sources from", hint=hint)
    with watched() as watcher:
        read = read_sources(wanted, estate, at, watcher, spool)
    readings: list[Reading] = []
    for source in estate.sources:
        if source not in wanted:
            assert earlier is not None
            readings += earlier.readings_of(source.name)
            continue
        for reading in (own for own in read if is_of(own.source, source.name)):
            readings += not_read(reading, earlier) if reading.failed else [reading]
    for source in estate.sources:
        for reading in (own for own in readings if is_of(own.source, source.name)):
            reading.strays_expected = source.section.strays == "expected"
    return readings
