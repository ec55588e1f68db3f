"""What is done with one shard: functions on a snapshot's folder, with small arguments and small answers."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from functools import cached_property
from pathlib import Path
from typing import NamedTuple
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.base.problems import fail
from keymallet.core.evaluating.context import EvaluationContext
from keymallet.core.evaluating.elsewhere import HASHES, Anybodys, Elsewhere, crossing
from keymallet.core.explaining.findings import Alike, alike, of_nobody
from keymallet.core.explaining.summary import Summary, summary
from keymallet.core.facts.evidence import Evidence
from keymallet.core.history.answers import Answers
from keymallet.core.history.block_by_block import told_for_the_first_time
from keymallet.core.judging.judge import Judgement, context_of, judge
from keymallet.core.judging.register_facts import facts_for
from keymallet.core.judging.verdicts import Verdict
from keymallet.core.language import typed
from keymallet.core.language.typed import Typed
from keymallet.core.rulebook.model import Rulebook
from keymallet.core.rulebook.register import Register
from keymallet.core.sharding.exchange import shared_among, told
from keymallet.core.sharding.shards_judged import ShardJudged, book_of_shard, shard_judged
from keymallet.core.sharding.staff import names_among, staff_among, wanted
from keymallet.engines.scratch import read_frames, write_bytes, write_frames
from keymallet.store.snapshot import Snapshot, read_snapshot

SHARDS_A_BUCKET = 4
"""Values that must not be shared are held together in parts: one for so many shards."""
Columns = Mapping[str, set[str]]


@dataclass(frozen=True)
class Basis:
    """What shards are asked, by which book and register, as of when, by which clock.

    With `other` expressions, these are asked instead of the rulebook's.
    """

    rulebook: Rulebook
    register: Register | None
    at: datetime
    clock: ZoneInfo
    other: list[tuple[str, Typed]] | None = None

    @property
    def asked(self) -> list[tuple[str, Typed]]:
        """Every expression, with the table it is asked of."""
        return list(self.rulebook.expressions() if self.other is None else self.other)

    def facts(self, asked: Iterable[tuple[str, Typed]], also: Columns) -> dict[str, set[str]]:
        """The facts that expressions rest on, and others besides."""
        return facts_for(asked, also, with_register=self.register is not None)


@dataclass(frozen=True)
class Case:
    """A snapshot in shards, and what it is asked: the same for all tasks. All of them see `scratch`.

    `anybodys` is what is known already of all shards, after so many steps.
    """

    snapshot: Path
    digest: str
    shards: int
    basis: Basis
    seeds: tuple[int, int]
    scratch: Path
    anybodys: Mapping[typed.RowQuery, Anybodys] = field(default_factory=dict)
    steps_told: int = 0

    @cached_property
    def steps(self) -> list[list[Typed]]:
        """What is asked across shards."""
        return crossing(self.basis.asked)

    @property
    def buckets(self) -> int:
        """Into how many parts values are divided that must not be shared."""
        return -(-self.shards // SHARDS_A_BUCKET)

    def held(self, step: int, place: int, shard: int) -> Path:
        """Where a shard leaves the values it holds, a frame for each bucket."""
        return self.scratch / f"held-{step}-{place}-{shard}"

    def shared(self, step: int, place: int, bucket: int) -> Path:
        """Where those that several hold are left, a frame for each shard."""
        return self.scratch / f"shared-{step}-{place}-{bucket}"

    def findings(self, shard: int, which: str) -> Path:
        """Where a shard leaves its findings."""
        return self.scratch / f"findings-{which}-{shard}"

    def opened(self) -> Snapshot:
        """The snapshot. Raises KeymalletError if another lies in its place by now."""
        snapshot = read_snapshot(self.snapshot)
        if snapshot.digest != self.digest:
            raise fail("the snapshot was replaced while it was judged", file=str(self.snapshot))
        return snapshot

    def elsewhere(self, shard: int) -> Elsewhere:
        """What holds in other shards than this one, as far as it is known."""
        sharers = {
            node: pl.concat(
                frame
                for bucket in range(self.buckets)
                for frame in read_frames(self.shared(step, place, bucket), [shard])
            )
            for step, nodes in enumerate(self.steps[: self.steps_told])
            for place, node in enumerate(nodes)
            if isinstance(node, typed.Unshared)
        }
        return Elsewhere(self.basis.rulebook, shard == 0, self.seeds, self.anybodys, sharers)

    def judged(self, shard: int, also: Columns) -> Judgement:
        """A shard, judged with the facts that the rulebook rests on, and others besides."""
        basis = self.basis
        evidence = self.opened().shard(shard, basis.facts(basis.rulebook.expressions(), also))
        book = book_of_shard(basis.rulebook, is_first=shard == 0)
        return judge(evidence, book, basis.at, basis.clock, basis.register, self.elsewhere(shard))

    def context(self, shard: int, asked: Iterable[tuple[str, Typed]], also: Columns) -> EvaluationContext:
        """A shard with what these expressions rest on, and facts besides, ready to be asked."""
        basis = self.basis
        evidence = self.opened().shard(shard, basis.facts(asked, also))
        elsewhere = self.elsewhere(shard)
        return context_of(evidence, basis.rulebook, basis.at, basis.clock, basis.register, elsewhere)[0]


@dataclass(frozen=True)
class OneStep:
    """A step of what is asked across shards, for one of them to tell, or for one bucket to bring together."""

    case: Case
    step: int
    number: int


def tell(asked: OneStep) -> tuple[dict[int, Anybodys], bool]:
    """What a shard tells others; values that must not be shared are left in a file.

    And whether it has accounts at all that may be anybody's.
    """
    case, nodes = asked.case, asked.case.steps[asked.step]
    expressions = [(node.table, node) for node in nodes if isinstance(node, typed.RowQuery | typed.Unshared)]
    context = case.context(asked.number, expressions, {})
    found = told(context, nodes, case.seeds)
    for place, held in found.held.items():
        bucket = held[HASHES[0]] % case.buckets
        frames = (held.filter(bucket == number) for number in range(case.buckets))
        write_frames(case.held(asked.step, place, asked.number), frames)
    return dict(found.anybodys), bool(len(context.may_belong().anybodys))


def share(asked: OneStep) -> None:
    """Hold against each other what all shards have left in a bucket, and leave for each what others hold."""
    case = asked.case
    for place, node in enumerate(case.steps[asked.step]):
        if isinstance(node, typed.Unshared):
            held = [
                frame
                for shard in range(case.shards)
                for frame in read_frames(case.held(asked.step, place, shard), [asked.number])
            ]
            write_frames(case.shared(asked.step, place, asked.number), shared_among(held))


@dataclass(frozen=True)
class ToSumUp:
    """A shard to be judged and summed up."""

    case: Case
    shard: int
    worst: int
    in_full: bool


def sum_up(asked: ToSumUp) -> tuple[ShardJudged, Summary]:
    """Judge a shard, and sum it up."""
    judgement = asked.case.judged(asked.shard, {})
    judged = shard_judged(judgement, asked.case.basis.rulebook, is_first=asked.shard == 0)
    return judged, summary(judgement, asked.worst, in_full=asked.in_full)


class Piece(NamedTuple):
    """Findings of one rule and verdict as bytes of a file: where they begin in it, and how long they are."""

    verdict: str
    rule: str
    start: int
    length: int


@dataclass(frozen=True)
class Wording:
    """How findings are told: with facts by which they are known, whose they are, and encoded as outputs are.

    `staff` is None where nobody answers for findings whom facts name.
    """

    also: Columns
    entries: tuple[Answers, ...]
    staff: pl.DataFrame | None
    structured: bool
    encode: Callable[[pl.DataFrame], bytes]


@dataclass(frozen=True)
class ToDescribe:
    """A shard whose findings are to be described; with `unproven`, only what these rules leave unproven."""

    case: Case
    shard: int
    wording: Wording
    unproven: frozenset[str] | None = None

    @property
    def file(self) -> Path:
        """Where the findings are left."""
        return self.case.findings(self.shard, "all" if self.unproven is None else "unproven")


def describe(asked: ToDescribe) -> tuple[ShardJudged, list[Piece], set[str]]:
    """Judge a shard and leave its findings in a file: its counts, what stands where in it, what is left out.

    Left out are the rules that could be judged of nobody in the shard, for want of what no source reports:
    whether that is so everywhere, and is told once, only all shards know together.
    """
    wording, case = asked.wording, asked.case
    judgement = case.judged(asked.shard, wording.also)
    left_out = set(of_nobody(judgement))
    found = alike(judgement)
    if asked.unproven is None:
        found = [each for each in found if not _is_unproven_by(each, left_out)]
    else:
        found = [each for each in found if _is_unproven_by(each, asked.unproven)]
    told_of = told_for_the_first_time(
        judgement, found, wording.entries, structured=wording.structured, staff=wording.staff
    )
    pieces: list[Piece] = []

    def encoded() -> Iterator[bytes]:
        start = 0
        for block in told_of:
            for piece in of_one_rule(block):
                data = wording.encode(piece)
                pieces.append(Piece(piece["verdict"][0], piece["rule"][0], start, len(data)))
                start += len(data)
                yield data

    write_bytes(asked.file, encoded())
    judged = shard_judged(judgement, case.basis.rulebook, is_first=asked.shard == 0)
    return judged, pieces, left_out


def _is_unproven_by(found: Alike, rules: Collection[str]) -> bool:
    return found.verdict is Verdict.UNPROVEN and found.demand.id in rules


def of_one_rule(block: pl.DataFrame) -> Iterator[pl.DataFrame]:
    """Cut a block of findings where another rule or verdict begins."""
    runs = block.select(pl.struct("verdict", "rule").rle().alias("run")).unnest("run")
    start = 0
    for height in runs["len"]:
        yield block.slice(start, height)
        start += height


@dataclass(frozen=True)
class ToFindStaff:
    """A shard in which people are looked for; `named` is how others name them."""

    case: Case
    shard: int
    named: pl.Series = field(default_factory=lambda: pl.Series(dtype=pl.String))

    def roster(self) -> Evidence:
        """The shard's people, and whom its accounts name."""
        of_people = {"person", "name", "mail", "manager", "status"}
        return self.case.opened().shard(self.shard, {"person": of_people, "account": {"manager", "owner"}})


def find_wanted(asked: ToFindStaff) -> pl.Series:
    """Who is named in a shard."""
    return wanted(asked.roster())


def find_staff(asked: ToFindStaff) -> pl.DataFrame:
    """Who of a shard's people is named so."""
    return staff_among(asked.roster(), asked.named)


def find_names(asked: ToFindStaff) -> pl.DataFrame:
    """How many of a shard's people have these names."""
    return names_among(asked.roster(), asked.named)
