"""Work spread over as many processes as are asked for; what a killed one leaves undone is done here."""

from __future__ import annotations

import os
import signal
import threading
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from contextlib import contextmanager
from multiprocessing import active_children, get_context, parent_process
from typing import Any, TypeVar

import polars as pl

T = TypeVar("T")
R = TypeVar("R")
_THREADS = "POLARS_MAX_THREADS"


def cores() -> int:
    """How many cores there are for this process."""
    return pl.thread_pool_size()


def in_processes(
    work: Callable[[T], R],
    items: Sequence[T],
    workers: int,
    begin: Callable[..., None] | None = None,
    *arguments: Any,
) -> Iterator[R]:
    """What `work` makes of each item, in their order; in this process if there is to be one alone.

    `work` must be a function at the top of a module, and may be begun anew on the same item. Each process
    calls `begin` with the arguments first. Raises what the work raises; then, and when nobody asks for the
    rest, all processes are ended.
    """
    workers = min(workers, len(items))
    if workers < 2:
        yield from map(work, items)
        return
    threads = max(1, cores() // workers)
    with _threads_each(threads):
        # Begun anew instead of forked: threads of this process may hold locks that nobody would release.
        pool = ProcessPoolExecutor(
            workers, get_context("spawn"), initializer=_begin, initargs=(begin, arguments)
        )
        done = False
        try:
            begun = [_begun(pool, work, item) for item in items]
            for item, future in zip(items, begun, strict=True):
                yield _given(work, item, future)
            done = True
        finally:
            pool.shutdown(wait=done, cancel_futures=True)
            if not done:
                for child in active_children():
                    child.terminate()
                    child.join()


def _begun(pool: ProcessPoolExecutor, work: Callable[[T], R], item: T) -> Future[R] | None:
    try:
        return pool.submit(work, item)
    except BrokenProcessPool:
        return None


def _given(work: Callable[[T], R], item: T, future: Future[R] | None) -> R:
    """What a process made of it; where one was killed, and took the others with it, it is made here."""
    try:
        return work(item) if future is None else future.result()
    except BrokenProcessPool:
        return work(item)


def _begin(begin: Callable[..., None] | None, arguments: tuple[Any, ...]) -> None:
    """What a process does first: it leaves interrupts to its parent, and ends when that does."""
    if begin is not None:
        begin(*arguments)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    threading.Thread(target=_end_with_parent, daemon=True).start()


def _end_with_parent() -> None:
    parent = parent_process()
    if parent is not None:
        parent.join()
        os._exit(1)


@contextmanager
def _threads_each(threads: int) -> Iterator[None]:
    """Processes that begin meanwhile do column operations in so many threads."""
    before = os.environ.get(_THREADS)
    os.environ[_THREADS] = str(threads)
    try:
        yield
    finally:
        if before is None:
            del os.environ[_THREADS]
        else:
            os.environ[_THREADS] = before
