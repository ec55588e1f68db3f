"""The same work for many rules, on as many cores as there are."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from typing import TypeVar

import polars as pl

T = TypeVar("T")
R = TypeVar("R")
_WORTH_IT = 4
"""Threads cost something to start; so many items are done before they would be there."""


def in_parallel(work: Callable[[T], R], items: Sequence[T], worth_it: int = _WORTH_IT) -> list[R]:
    """What `work` makes of each item, in their order; one after the other where fewer than `worth_it`.

    Column operations leave Python's lock alone, and those of a single rule are too short to keep all
    cores busy by themselves. The work must change nothing that it shares.
    """
    cores = pl.thread_pool_size()
    if cores == 1 or len(items) < worth_it:
        return [work(item) for item in items]
    with ThreadPoolExecutor(min(cores, len(items))) as pool:
        return list(pool.map(work, items))


def one_by_one(work: Callable[[T], R], items: Iterable[T]) -> Iterator[R]:
    """What `work` makes of each item, in their order, as it is asked for.

    Side by side as with `in_parallel`, but no further ahead than there are cores: no more than that is held.
    """
    cores = pl.thread_pool_size()
    if cores == 1:
        yield from map(work, items)
        return
    waiting: deque[Future[R]] = deque()
    with ThreadPoolExecutor(cores) as pool:
        for item in items:
            waiting.append(pool.submit(work, item))
            if len(waiting) > cores:
                yield waiting.popleft().result()
        while waiting:
            yield waiting.popleft().result()


def in_advance(items: Iterable[T]) -> Iterator[T]:
    """The items as they come, each made while the one before is worked on: no more than two are held."""
    coming = iter(items)
    with ThreadPoolExecutor(1) as pool:
        following = pool.submit(next, coming, _END)
        while (item := following.result()) is not _END:
            following = pool.submit(next, coming, _END)
            yield item  # type: ignore[misc]


_END = object()
