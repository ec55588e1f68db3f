"""Findings as outputs have them, one block after the other, so that they never stand in memory together."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

import polars as pl

from keymallet.core.base.parallel import one_by_one
from keymallet.core.explaining.findings import Alike, describe, number_of
from keymallet.core.history.added import added
from keymallet.core.history.answerers import Answering
from keymallet.core.history.answers import Answers
from keymallet.core.history.columns import FINDING, LIFE, ROW
from keymallet.core.history.due import due_dates
from keymallet.core.history.identity import Distinct
from keymallet.core.history.lives import first_lives
from keymallet.core.history.observed import Observed, Observer
from keymallet.core.judging.judge import Judgement

AT_ONCE = 25_000
"""So many findings are described at once where they pass by one block after the other."""


_NO_ROWS = pl.Series(dtype=pl.UInt32)


def in_blocks(found: list[Alike], most: int) -> Iterator[list[Alike]]:
    """The same findings in the same order, as blocks that have no more than `most` rows of tables each."""
    block: list[Alike] = []
    room = most
    for each in found:
        # What is on numbers, or on nobody, is little.
        rows = _NO_ROWS if each.rows is None else each.rows
        if block and len(rows) > room:
            yield block
            block, room = [], most
        for start in range(0, max(len(rows), 1), most):
            if start:
                yield block
                block, room = [], most
            block.append(each if each.rows is None else each._replace(rows=rows.slice(start, most)))
        room -= len(rows) % most or min(len(rows), most)
    if block:
        yield block


Known = Callable[[list[Alike], int], tuple[Observed, pl.DataFrame]]
"""Of a block of findings, and the place of its first among all: what they are known by, FINDING and LIFE."""


def added_to(observed: Observed, lives: pl.DataFrame, answering: Answering, since: pl.Series) -> pl.DataFrame:
    """ADDED of findings: `lives` has FINDING and LIFE of each, `since` when it began."""
    judgement = observed.judgement
    table = observed.frame.drop(ROW).hstack(lives.drop(FINDING)).hstack(answering.of(observed))
    table = table.with_columns(since.alias("since"))
    return added(table.with_columns(due_dates(table, judgement.rulebook)), judgement.at)


def told_for_the_first_time(
    judgement: Judgement,
    found: list[Alike],
    entries: Sequence[Answers],
    *,
    structured: bool = False,
    staff: pl.DataFrame | None = None,
) -> Iterator[pl.DataFrame]:
    """The same as `told_in_blocks`, where nothing is known of an earlier run."""
    observer = Observer(judgement, found)

    def known(block: list[Alike], _: int) -> tuple[Observed, pl.DataFrame]:
        observed = observer.observed(block)
        return observed, never_seen(observed)

    return told_in_blocks(judgement, found, known, entries, structured=structured, staff=staff)


def never_seen(observed: Observed) -> pl.DataFrame:
    """FINDING and LIFE of findings that nobody has seen before, as far as anybody knows."""
    unknown = (pl.lit(None, dtype=kind).alias(name) for name, kind in LIFE.items())
    return first_lives(observed, observed.judgement.at).frame.with_columns(unknown)


def told_in_blocks(
    judgement: Judgement,
    found: list[Alike],
    known: Known,
    entries: Sequence[Answers],
    *,
    structured: bool = False,
    at_once: int = AT_ONCE,
    staff: pl.DataFrame | None = None,
) -> Iterator[pl.DataFrame]:
    """What `describe` says of findings, with ADDED, in their order; at least one frame, even if it is empty.

    Raises ValueError, when all have passed, if two of them are known by the same.
    """
    answering = Answering(judgement, entries, staff)
    distinct = Distinct()

    def placed() -> Iterator[tuple[list[Alike], int]]:
        place = 0
        for block in in_blocks(found, at_once):
            yield block, place
            place += sum(number_of(judgement, each) for each in block)

    def told(block_and_place: tuple[list[Alike], int]) -> pl.DataFrame:
        block, place = block_and_place
        said = describe(judgement, block, structured=structured)
        return said.hstack(added_to(*known(block, place), answering, said["since"]))

    if not found:
        yield told(([], 0))
    for part in one_by_one(told, placed()):
        distinct.add(part[FINDING])
        yield part
    distinct.check()
