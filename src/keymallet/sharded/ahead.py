"""What will turn to breach, shard after shard, in the order of time."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import datetime
from functools import partial

import polars as pl

from keymallet.core.history.answers import Answers
from keymallet.core.history.to_come import added_to_come
from keymallet.core.judging.judge import Judgement
from keymallet.core.sharding.shards_judged import ShardJudged, shard_judged
from keymallet.core.sharding.staff import asks_for_staff
from keymallet.core.studies.ahead import coming, described
from keymallet.sharded.opened import Shards, among_all_judged, staff_of
from keymallet.sharded.tasks import Case


@dataclass(frozen=True)
class ToCome:
    """What turns to breach up to an instant: `events` as `coming` gives them, in the order of time.

    `told` is what is said of the first ones, or of all. `among_all` has the counts of all rules.
    """

    events: pl.DataFrame
    told: pl.DataFrame
    among_all: Judgement


@dataclass(frozen=True)
class Telling:
    """What is to be said of events: only whom the first so many are about, or with ADDED of all (None).

    `known` are the findings of the last run.
    """

    most: int | None
    known: pl.DataFrame | None = None
    entries: tuple[Answers, ...] = ()
    staff: pl.DataFrame | None = None

    def of(self, judgement: Judgement, events: pl.DataFrame) -> pl.DataFrame:
        """What is said of events of one shard, or of what is judged of all."""
        if self.most is not None:
            return described(judgement, events.head(self.most))
        added = added_to_come(judgement, events, self.known, self.entries, self.staff)
        return described(judgement, events).hstack(added)


@dataclass(frozen=True)
class ToLookAhead:
    """A shard to be looked ahead in, with facts by which findings are known besides."""

    case: Case
    shard: int
    end: datetime
    telling: Telling
    also: Mapping[str, set[str]]


def look_ahead(asked: ToLookAhead) -> tuple[ShardJudged, pl.DataFrame, pl.DataFrame]:
    """What turns to breach in a shard: its counts now, the events, and what is said of them."""
    judgement = asked.case.judged(asked.shard, asked.also)
    events = coming(judgement, asked.end)
    judged = shard_judged(judgement, asked.case.basis.rulebook, is_first=asked.shard == 0)
    return judged, _known_elsewhere(events), asked.telling.of(judgement, events)


def coming_in_shards(shards: Shards, end: datetime, telling: Telling, also: Mapping[str, set[str]]) -> ToCome:
    """What turns to breach in any shard, or in what is judged of all of them, up to `end`."""
    if telling.most is None and asks_for_staff(telling.entries):
        telling = replace(telling, staff=staff_of(shards))
    parts = shards.each(look_ahead, partial(ToLookAhead, end=end, telling=telling, also=also))
    among_all = among_all_judged(shards, [judged for judged, *_ in parts])
    of_all = coming(among_all, end)
    found = [*(events for _, events, _ in parts), _known_elsewhere(of_all)]
    told = [*(said for *_, said in parts), telling.of(among_all, of_all)]
    rules = pl.Enum([rule.id for rule in shards.case.basis.rulebook.rules])
    events = _in_order(found, rules).with_columns(pl.col("rule").cast(rules))
    return ToCome(events, _in_order(told, rules, telling.most), among_all)


def _known_elsewhere(events: pl.DataFrame) -> pl.DataFrame:
    """Events without what only their own shard understands."""
    return events.select("at", pl.col("rule").cast(pl.String), "severity")


def _in_order(parts: list[pl.DataFrame], rules: pl.Enum, most: int | None = None) -> pl.DataFrame:
    """The events of all shards as those of the whole would stand: by instant, rule and shard."""
    whole = pl.concat(parts).sort("at", pl.col("rule").cast(rules), maintain_order=True)
    return whole if most is None else whole.head(most)
