"""A snapshot in shards, judged: what each shard tells is brought together step by step."""

from __future__ import annotations

import secrets
import tempfile
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from datetime import datetime
from functools import partial
from pathlib import Path
from typing import TypeVar
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.base.problems import fail
from keymallet.core.evaluating.elsewhere import any_of
from keymallet.core.explaining.findings import SHORTCOMINGS, alike
from keymallet.core.explaining.summary import Summary, summary, together
from keymallet.core.explaining.untold import what_is_untold
from keymallet.core.history.answers import Answers
from keymallet.core.history.block_by_block import AT_ONCE, told_for_the_first_time
from keymallet.core.history.columns import FINDING
from keymallet.core.history.identity import Distinct
from keymallet.core.judging.judge import Judgement
from keymallet.core.judging.verdicts import Verdict
from keymallet.core.language import typed
from keymallet.core.rulebook.model import Rule, Rulebook
from keymallet.core.rulebook.register import Register
from keymallet.core.sharding.shards_judged import judged_together
from keymallet.core.sharding.staff import asks_for_staff, staff
from keymallet.engines.processes import in_processes
from keymallet.sharded import tasks
from keymallet.sharded.scratch import read_frames
from keymallet.sharded.tasks import Case, OneStep, Piece, ToDescribe, ToFindStaff, ToSumUp
from keymallet.store.snapshot import Snapshot

T = TypeVar("T")
R = TypeVar("R")


@dataclass(frozen=True)
class ShardedJudging:
    """A judging of a snapshot in shards: all that is known of it across shards.

    `among_all` judges what is judged of all shards at once, and has the counts of all rules.
    """

    case: Case
    workers: int
    among_all: Judgement
    summary: Summary

    def findings(
        self, also: Mapping[str, set[str]], entries: tuple[Answers, ...], *, structured: bool
    ) -> Iterator[pl.DataFrame]:
        """Every finding as outputs have it, in the order of the whole, one block after the other.

        Of estates of which no earlier run is known. `also` are facts by which findings are known. Raises
        ValueError, when all have passed, if two of them are known by the same.
        """
        named = self._staff() if asks_for_staff(entries) else None
        nobody = [
            count.rule.id
            for count in self.among_all.counts()
            if isinstance(count.rule, Rule) and what_is_untold(self.among_all, count)
        ]
        asked = [
            ToDescribe(self.case, shard, also, entries, named, frozenset(nobody), structured)
            for shard in range(self.case.shards)
        ]
        pieces = list(in_processes(tasks.describe, asked, self.workers))
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
                        yield from read_frames(self.case.findings(shard), known[key])
                yield from others.get(key, ())

    def _staff(self) -> pl.DataFrame:
        """The part of the roster that any shard names."""
        named = pl.concat(self._in_each_shard(tasks.find_wanted, ToFindStaff)).unique()
        found = self._in_each_shard(tasks.find_staff, partial(ToFindStaff, named=named))
        names = pl.concat(found)["name"].drop_nulls().unique()
        return staff(found, self._in_each_shard(tasks.find_names, partial(ToFindStaff, named=names)))

    def _in_each_shard(self, work: Callable[[T], R], asked: Callable[[Case, int], T]) -> list[R]:
        return list(in_processes(work, [asked(self.case, n) for n in range(self.case.shards)], self.workers))


@contextmanager
def judged_in_shards(
    snapshot: Snapshot,
    rulebook: Rulebook,
    at: datetime,
    clock: ZoneInfo,
    register: Register | None,
    *,
    workers: int,
    worst: int,
    in_full: bool = False,
) -> Iterator[ShardedJudging]:
    """Judge a snapshot shard after shard; what shards leave for each other is taken away at the end.

    The summary has so many of the `worst` accounts; `in_full`, with what is said of breaches.
    """
    try:
        folder = tempfile.TemporaryDirectory(prefix="keymallet-shards-")
    except OSError as error:
        raise fail(f"no folder for what shards leave can be made: {error.strerror or error}") from None
    with folder as made:
        seeds = (secrets.randbits(64), secrets.randbits(64))
        case = Case(
            snapshot.folder,
            snapshot.digest,
            snapshot.shards,
            rulebook,
            register,
            at,
            clock,
            seeds,
            Path(made),
        )
        case = _exchanged(case, workers)
        asked = [ToSumUp(case, shard, worst, in_full) for shard in range(case.shards)]
        parts = list(in_processes(tasks.sum_up, asked, workers))
        judged = [each for each, _ in parts]
        among_all = judged_together(judged, snapshot.without_rows(), rulebook, at, clock, register)
        of_all = summary(among_all, worst, in_full=in_full)
        whole = together([*(each for _, each in parts), of_all], rulebook, worst)
        yield ShardedJudging(case, workers, among_all, whole)


def _exchanged(case: Case, workers: int) -> Case:
    """Let shards tell each other, step by step, what is asked across them."""
    has_anybodys = True
    for step, nodes in enumerate(case.steps):
        shares = any(isinstance(node, typed.Unshared) for node in nodes)
        if shares or has_anybodys:
            asked = [OneStep(case, step, shard) for shard in range(case.shards)]
            told = list(in_processes(tasks.tell, asked, workers))
            has_anybodys = any(there for _, there in told)
            known = dict(case.anybodys)
            for place, node in enumerate(nodes):
                found = [each[place] for each, _ in told if place in each]
                if found and isinstance(node, typed.RowQuery):
                    known[node] = any_of(found)
            case = replace(case, anybodys=known)
        if shares:
            list(in_processes(tasks.share, [OneStep(case, step, n) for n in range(case.buckets)], workers))
        case = replace(case, steps_told=step + 1)
    return case


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
