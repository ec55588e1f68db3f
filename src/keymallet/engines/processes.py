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


class Processes:
    """So many processes, begun when there is work for them, for as long as a `with` statement lasts.

    Each calls `begin` with the arguments first. If there is to be one alone, the work is done in this one.
    When the statement ends by a fault or an interrupt, they are ended.
    """

    def __init__(self, workers: int, begin: Callable[..., None] | None = None, *arguments: Any) -> None:
        self._workers = workers
        self._first = (begin, arguments)
        self._pool: ProcessPoolExecutor | None = None

    def __enter__(self) -> Processes:
        return self

    def __exit__(self, kind: type[BaseException] | None, *_: object) -> None:
        pool, self._pool = self._pool, None
        if pool is None:
            return
        pool.shutdown(wait=kind is None, cancel_futures=True)
        if kind is not None:
            for child in active_children():
                child.terminate()
                child.join()

    def each(self, work: Callable[[T], R], items: Sequence[T]) -> Iterator[R]:
        """What `work` makes of each item, in their order. Raises what the work raises.

        It must be a function at the top of a module, and may be begun anew on the same item.
        """
        if min(self._workers, len(items)) < 2:
            yield from map(work, items)
            return
        begun = [self._begun(work, item) for item in items]
        for item, future in zip(items, begun, strict=True):
            yield self._given(work, item, future)

    def _begun(self, work: Callable[[T], R], item: T) -> Future[R] | None:
        if self._pool is None:
            # Begun anew instead of forked: threads of this process may hold locks that nobody would release.
            self._pool = ProcessPoolExecutor(
                self._workers, get_context("spawn"), initializer=_begin, initargs=self._first
            )
        try:
            with _threads_each(max(1, cores() // self._workers)):
                return self._pool.submit(work, item)
        except BrokenProcessPool:
            return None

    def _given(self, work: Callable[[T], R], item: T, future: Future[R] | None) -> R:
        """What a process made of it; where one was killed, and took the others with it, it is made here."""
        try:
            return work(item) if future is None else future.result()
        except BrokenProcessPool:
            # For what comes next there will be others.
            self._pool = None
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
