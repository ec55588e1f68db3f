"""A snapshot in shards, judged: what each shard tells is brought together step by step."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from functools import partial

import polars as pl

from keymallet.core.explaining.findings import SHORTCOMINGS, alike
from keymallet.core.explaining.summary import Summary, summary, together
from keymallet.core.explaining.untold import what_is_untold
from keymallet.core.history.answers import Answers
from keymallet.core.history.block_by_block import AT_ONCE, told_for_the_first_time
from keymallet.core.history.columns import FINDING
from keymallet.core.history.identity import Distinct
from keymallet.core.judging.judge import Judgement
from keymallet.core.judging.verdicts import Verdict
from keymallet.core.rulebook.model import Rule
from keymallet.core.sharding.staff import asks_for_staff
from keymallet.sharded import tasks
from keymallet.sharded.opened import Shards, among_all_judged, opened_shards, staff_of
from keymallet.sharded.scratch import read_frames
from keymallet.sharded.tasks import Basis, Piece, ToDescribe, ToSumUp
from keymallet.store.snapshot import Snapshot


@dataclass(frozen=True)
class ShardedJudging:
    """A judging of a snapshot in shards: all that is known of it across shards.

    `among_all` judges what is judged of all shards at once, and has the counts of all rules.
    """

    shards: Shards
    among_all: Judgement
    summary: Summary

    def findings(
        self, also: Mapping[str, set[str]], entries: tuple[Answers, ...], *, structured: bool
    ) -> Iterator[pl.DataFrame]:
        """Every finding as outputs have it, in the order of the whole, one block after the other.

        Of estates of which no earlier run is known. `also` are facts by which findings are known. Raises
        ValueError, when all have passed, if two of them are known by the same.
        """
        named = staff_of(self.shards) if asks_for_staff(entries) else None
        nobody = [
            count.rule.id
            for count in self.among_all.counts()
            if isinstance(count.rule, Rule) and what_is_untold(self.among_all, count)
        ]
        asked = partial(
            ToDescribe,
            also=also,
            entries=entries,
            staff=named,
            of_nobody=frozenset(nobody),
            structured=structured,
        )
        pieces = self.shards.each(tasks.describe, asked)
        found = alike(self.among_all, together=True)
        rest = told_for_the_first_time(self.among_all, found, entries, structured=structured, staff=named)
        distinct = Distinct()
        for block in _gathered(self._in_order(pieces, rest, nobody)):
            distinct.add(block[FINDING])
            yield block
        distinct.check()

    def _in_order(
        self, pieces: Sequence[Sequence[Piece]], rest: Iterable[pl.DataFrame], nobody: list[str]
    ) -> Iterator[pl.DataFrame]:
        """The findings by verdict and rule, as `alike` orders them; within one, by shard."""
        places: list[dict[Piece, list[int]]] = []
        for of_shard in pieces:
            places.append({})
            for place, piece in enumerate(of_shard):
                places[-1].setdefault(piece, []).append(place)
        others: dict[Piece, list[pl.DataFrame]] = {}
        for block in rest:
            if not block.height:
                yield block
            for part in tasks.of_one_rule(block):
                others.setdefault((part["verdict"][0], part["rule"][0]), []).append(part)
        book = self.among_all.rulebook
        rules = sorted(book.rules, key=lambda rule: -rule.severity)
        tallies = sorted(book.tallies, key=lambda tally: -tally.severity)
        for verdict in SHORTCOMINGS:
            of_all = nobody if verdict is Verdict.UNPROVEN else []
            demands = [rule.id for rule in rules if rule.id not in of_all]
            demands += [rule.id for rule in rules if rule.id in of_all]
            for demand in [*demands, *(tally.id for tally in tallies)]:
                key = (verdict.word, demand)
                for shard, known in enumerate(places):
                    if key in known:
                        yield from read_frames(self.shards.case.findings(shard), known[key])
                yield from others.get(key, ())


@contextmanager
def judged_in_shards(
    snapshot: Snapshot, basis: Basis, *, workers: int, worst: int, in_full: bool = False
) -> Iterator[ShardedJudging]:
    """Judge a snapshot shard after shard; what shards leave for each other is taken away at the end.

    The summary has so many of the `worst` accounts; `in_full`, with what is said of breaches.
    """
    with opened_shards(snapshot, basis, workers=workers) as shards:
        parts = shards.each(tasks.sum_up, partial(ToSumUp, worst=worst, in_full=in_full))
        among_all = among_all_judged(shards, [judged for judged, _ in parts])
        of_all = summary(among_all, worst, in_full=in_full)
        whole = together([*(each for _, each in parts), of_all], basis.rulebook, worst)
        yield ShardedJudging(shards, among_all, whole)


def _gathered(pieces: Iterable[pl.DataFrame]) -> Iterator[pl.DataFrame]:
    """The same rows in fewer frames; at least one, even if it is empty."""
    waiting: list[pl.DataFrame] = []
    nothing = True
    for piece in pieces:
        waiting.append(piece)
        if sum(each.height for each in waiting) >= AT_ONCE:
            yield pl.concat(waiting, how="diagonal_relaxed")
            waiting, nothing = [], False
    if waiting or nothing:
        yield pl.concat(waiting, how="diagonal_relaxed")
