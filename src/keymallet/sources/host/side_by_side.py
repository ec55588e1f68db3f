"""Many hosts, read by as many processes as there are cores: most of a small host's time goes into Python."""

from __future__ import annotations

import os
import signal
import threading
from collections.abc import Iterator
from concurrent.futures import Future, ProcessPoolExecutor, ThreadPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from contextlib import contextmanager
from datetime import datetime
from multiprocessing import get_context, parent_process
from pathlib import Path
from typing import NamedTuple
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.facts.reading import Reading
from keymallet.sources.host.reader import HostReader
from keymallet.sources.request import Request
from keymallet.sources.sections import HostSection
from keymallet.sources.shared.digests import key_of_this_process, take_key

WORTH_IT = 64
"""So many hosts are read by one process before others would have begun."""
_AT_ONCE = 8
"""So many hosts are asked of a process at once."""
_THREADS = "POLARS_MAX_THREADS"


class _Asked(NamedTuple):
    """Some hosts of a source, by the names of their folders, and all it takes to read them."""

    section: HostSection
    source: str
    estate: Path
    clock: ZoneInfo
    at: datetime
    hosts: tuple[str, ...]


def read_hosts(section: HostSection, request: Request, hosts: list[str]) -> list[Reading]:
    """Read hosts below the section's folder, in this order. Raises KeymalletError."""
    processes = min(pl.thread_pool_size(), len(hosts) // _AT_ONCE)
    readings: list[Reading] = []
    if processes < 2 or len(hosts) < WORTH_IT:
        for host in hosts:
            readings.append(_reading(section, request, host))
            request.advanced(len(readings), len(hosts), "hosts")
        return readings
    asked = [
        _Asked(
            section, request.name, request.folder, request.clock, request.at, tuple(hosts[n : n + _AT_ONCE])
        )
        for n in range(0, len(hosts), _AT_ONCE)
    ]
    with _one_thread_each():
        # Begun anew instead of forked: threads of this process may hold locks that nobody would release.
        pool = ProcessPoolExecutor(
            processes, get_context("spawn"), initializer=_begin, initargs=(key_of_this_process(),)
        )
        try:
            begun = [_begun(pool, some) for some in asked]
            for some, future in zip(asked, begun, strict=True):
                readings += _given(some, future)
                request.advanced(len(readings), len(hosts), "hosts")
        finally:
            pool.shutdown(wait=False, cancel_futures=True)
    return readings


def _begun(pool: ProcessPoolExecutor, asked: _Asked) -> Future[list[Reading]] | None:
    try:
        return pool.submit(_read, asked)
    except BrokenProcessPool:
        return None


def _given(asked: _Asked, future: Future[list[Reading]] | None) -> list[Reading]:
    """What a process read; where one was killed, and took the others with it, it is read here."""
    try:
        return _read(asked) if future is None else future.result()
    except BrokenProcessPool:
        return _read(asked)


def _reading(section: HostSection, request: Request, host: str) -> Reading:
    return HostReader(section, request, f"{request.name}/{host}", f"{section.folder}/{host}").reading()


def _read(asked: _Asked) -> list[Reading]:
    """Read some hosts, with the files that were read noted in each."""
    with ThreadPoolExecutor(1) as workers:
        request = Request(asked.source, asked.estate, asked.clock, asked.at, workers)
        readings = [_reading(asked.section, request, host) for host in asked.hosts]
        request.note_files()
    return readings


def _begin(key: bytes) -> None:
    """What a process does first: it leaves interrupts to its parent, and ends when that does.

    With the parent's key, passwords that are the same on hosts read by different processes are seen to be.
    """
    take_key(key)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    threading.Thread(target=_end_with_parent, daemon=True).start()


def _end_with_parent() -> None:
    parent = parent_process()
    if parent is not None:
        parent.join()
        os._exit(1)


@contextmanager
def _one_thread_each() -> Iterator[None]:
    """Processes that begin meanwhile do column operations in one thread: there are as many as cores."""
    before = os.environ.get(_THREADS)
    os.environ[_THREADS] = "1"
    try:
        yield
    finally:
        if before is None:
            del os.environ[_THREADS]
        else:
            os.environ[_THREADS] = before
