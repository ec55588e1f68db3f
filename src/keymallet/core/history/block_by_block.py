"""Findings as outputs have them, one block after the other, so that they never stand in memory together."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

import polars as pl

from keymallet.core.base.parallel import one_by_one
from keymallet.core.explaining.findings import AT_ONCE, Alike, describe, in_blocks, number_of
from keymallet.core.history.added import added
from keymallet.core.history.answerers import Answering
from keymallet.core.history.answers import Answers
from keymallet.core.history.columns import FINDING, ROW
from keymallet.core.history.due import due_dates
from keymallet.core.history.identity import Distinct
from keymallet.core.history.observed import Observed
from keymallet.core.judging.judge import Judgement

Known = Callable[[list[Alike], int], tuple[Observed, pl.DataFrame]]
"""Of a block of findings, and the place of its first among all: what they are known by, FINDING and LIFE."""


def told_in_blocks(
    judgement: Judgement,
    found: list[Alike],
    known: Known,
    entries: Sequence[Answers],
    *,
    structured: bool = False,
    at_once: int = AT_ONCE,
) -> Iterator[pl.DataFrame]:
    """What `describe` says of findings, with ADDED, in their order; at least one frame, even if it is empty.

    Raises ValueError, when all have passed, if two of them are known by the same.
    """
    answering = Answering(judgement, entries)
    distinct = Distinct()

    def placed() -> Iterator[tuple[list[Alike], int]]:
        place = 0
        for block in in_blocks(found, at_once):
            yield block, place
            place += sum(number_of(judgement, each) for each in block)

    def told(block_and_place: tuple[list[Alike], int]) -> pl.DataFrame:
        block, place = block_and_place
        said = describe(judgement, block, structured=structured)
        observed, lives = known(block, place)
        table = observed.frame.drop(ROW).hstack(lives.drop(FINDING)).hstack(answering.of(observed))
        table = table.with_columns(said["since"])
        table = table.with_columns(due_dates(table, judgement.rulebook))
        return said.hstack(added(table, judgement.at))

    if not found:
        yield told(([], 0))
    for part in one_by_one(told, placed()):
        distinct.add(part[FINDING])
        yield part
    distinct.check()
