"""What the logbook knows of the findings of a judging that is not written into it; causes stay open."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from contextlib import suppress
from dataclasses import dataclass
from typing import TYPE_CHECKING

import polars as pl

from keymallet.commands.judging_inputs import JudgingInputs
from keymallet.commands.wholeness import wholeness
from keymallet.core.base.problems import KeymalletError
from keymallet.core.explaining.findings import Alike, alike
from keymallet.core.history.answerers import Answering
from keymallet.core.history.answers import Answers
from keymallet.core.history.block_by_block import (
    added_to,
    never_seen,
    told_for_the_first_time,
    told_in_blocks,
)
from keymallet.core.history.columns import COLUMNS, ENDED, TOLD, TOLD_AT
from keymallet.core.history.lives import follow
from keymallet.core.history.observed import Observed, Observer
from keymallet.core.history.states import Cause
from keymallet.core.judging.judge import Judgement

if TYPE_CHECKING:
    from keymallet.store.logbook.logbook import Logbook
    from keymallet.store.logbook.records import RunLine
    from keymallet.store.snapshot import Snapshot

_NEEDED = [name for name in COLUMNS if name not in (*TOLD, TOLD_AT)]
"""What is asked of the findings of the last run: not what was said of them."""


def told_unrecorded(inputs: JudgingInputs, judgement: Judgement, structured: bool) -> Iterator[pl.DataFrame]:
    """Every finding as outputs have it, block after block: see `told_in_blocks`."""
    last = _Last.of(inputs)
    found = alike(judgement, together=True)
    if last.findings is None:
        yield from told_for_the_first_time(judgement, found, _entries(inputs), structured=structured)
        return
    # How a finding goes on shows only where all of them are held against all of the last run.
    everything = Observer(judgement, found, last.findings).observed(found)
    lives = last.lives(inputs, everything)

    def known(block: list[Alike], place: int) -> tuple[Observed, pl.DataFrame]:
        observed = everything.part(block, place)
        return observed, lives.slice(place, observed.frame.height)

    yield from told_in_blocks(judgement, found, known, _entries(inputs), structured=structured)


def added_unrecorded(inputs: JudgingInputs, judgement: Judgement) -> pl.DataFrame:
    """ADDED of every finding, in the order of `alike`; without since when each is one, which is not asked."""
    last = _Last.of(inputs)
    found = alike(judgement, together=True)
    observed = Observer(judgement, found, last.findings).observed(found)
    unasked = pl.Series([None], dtype=TOLD["since"]).new_from_index(0, observed.frame.height)
    return added_to(observed, last.lives(inputs, observed), Answering(judgement, _entries(inputs)), unasked)


def _logbook(inputs: JudgingInputs) -> Logbook | None:
    """The estate's logbook; None where there is none, or it cannot be read: then findings have no history."""
    if inputs.estate is None or inputs.estate.logbook is None:
        return None
    # What opens logbooks takes a while to load.
    from keymallet.commands.logbooks import open_logbook

    with suppress(KeymalletError):
        return open_logbook(inputs.estate)
    return None


def has_earlier_run(inputs: JudgingInputs) -> bool:
    """Whether the logbook knows a run that findings are held against."""
    logbook = _logbook(inputs)
    return logbook is not None and logbook.last() is not None


def _entries(inputs: JudgingInputs) -> tuple[Answers, ...]:
    return inputs.estate.answers if inputs.estate else ()


@dataclass(frozen=True)
class _Last:
    """The last run, if there is one, and its findings."""

    logbook: Logbook | None = None
    run: RunLine | None = None
    findings: pl.DataFrame | None = None

    @classmethod
    def of(cls, inputs: JudgingInputs) -> _Last:
        logbook = _logbook(inputs)
        run = logbook.last() if logbook else None
        return cls(logbook, run, logbook.findings(run, _NEEDED) if logbook and run else None)

    def lives(self, inputs: JudgingInputs, observed: Observed) -> pl.DataFrame:
        """FINDING and LIFE of each finding, held against those of the last run."""
        at = observed.judgement.at
        if self.findings is None:
            return never_seen(observed)
        retired = inputs.estate.retired if inputs.estate else ()
        whole = wholeness(inputs.snapshot, retired, self._snapshot(inputs))
        lives = follow(self.findings, observed, _no_steps, whole, _nothing_ended, at)
        known = pl.when(pl.col("cause") != str(Cause.NOT_KNOWN)).then("cause").alias("cause")
        return lives.frame.with_columns(known)

    def _snapshot(self, inputs: JudgingInputs) -> Snapshot | None:
        """What the last run rested on, if it is still there."""
        if inputs.estate is None or self.logbook is None or self.run is None:
            return None
        from keymallet.commands.logbooks import snapshot_of_run

        rested_on = self.logbook.record(self.run).snapshot
        return snapshot_of_run(inputs.estate.snapshots, rested_on) if rested_on else None


def _no_steps(keys: Collection[str]) -> None:
    return None


def _nothing_ended(ids: pl.Series) -> pl.DataFrame:
    return pl.DataFrame(schema=ENDED)
