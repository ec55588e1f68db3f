"""Lists of words, one for each row, out of many truths: built once for each combination there is."""

from __future__ import annotations

import functools
import operator
from collections.abc import Sequence

import polars as pl

_BITS = 60
"""So many truths fit into one number."""


def words_that_hold(truths: Sequence[tuple[str, pl.Series]], rows: int, *, doubt: bool = False) -> pl.Series:
    """For each row the words whose truth holds, in their order.

    A truth that is not known does not hold; with `doubt`, the whole list of that row is not known (null).
    Rows are many and combinations few: a list is made for each of these, and looked up for the rows.
    """
    if not truths:
        return pl.Series([[]], dtype=pl.List(pl.String)).new_from_index(0, rows)
    parts = [truths[start : start + _BITS] for start in range(0, len(truths), _BITS)]
    masks = pl.DataFrame([_mask(part).alias(f"{place}") for place, part in enumerate(parts)])
    combinations = masks.unique(maintain_order=True)
    lists = [
        [word for number, part in zip(numbers, parts, strict=True) for word in _words(number, part)]
        for numbers in combinations.iter_rows()
    ]
    words_of_mask = combinations.with_columns(pl.Series("words", lists, dtype=pl.List(pl.String)))
    joined = masks.join(words_of_mask, on=masks.columns, how="left", maintain_order="left")["words"]
    unsure = [truth.is_null() for _, truth in truths if truth.null_count()] if doubt else []
    if not unsure:
        return joined
    frame = pl.DataFrame([joined, functools.reduce(operator.or_, unsure).alias("unsure")])
    return frame.select(pl.when(~pl.col("unsure")).then("words")).to_series()


def _mask(part: Sequence[tuple[str, pl.Series]]) -> pl.Series:
    bits = [truth.fill_null(False).cast(pl.Int64) * (1 << place) for place, (_, truth) in enumerate(part)]
    return functools.reduce(operator.add, bits)


def _words(number: int, part: Sequence[tuple[str, pl.Series]]) -> list[str]:
    return [word for place, (word, _) in enumerate(part) if number >> place & 1]
