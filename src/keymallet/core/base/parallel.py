"""The same work for many rules, on as many cores as there are."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

import polars as pl

T = TypeVar("T")
R = TypeVar("R")
_WORTH_IT = 4


def in_parallel(work: Callable[[T], R], items: Sequence[T]) -> list[R]:
    """What `work` makes of each item, in their order.

    Column operations leave Python's lock alone, and those of a single rule are too short to keep all
    cores busy by themselves. The work must change nothing that it shares.
    """
    cores = pl.thread_pool_size()
    # Threads cost something to start; a few items are done before they would be there.
    if cores == 1 or len(items) < _WORTH_IT:
        return [work(item) for item in items]
    with ThreadPoolExecutor(min(cores, len(items))) as pool:
        return list(pool.map(work, items))
