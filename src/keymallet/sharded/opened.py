"""A snapshot in shards, opened: what is asked across shards is told, and work is done on each of them."""

from __future__ import annotations

import secrets
import tempfile
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import TypeVar

import polars as pl

from keymallet.core.base.problems import fail
from keymallet.core.evaluating.elsewhere import any_of
from keymallet.core.judging.judge import Judgement
from keymallet.core.language import typed
from keymallet.core.sharding.shards_judged import ShardJudged, judged_together
from keymallet.core.sharding.staff import staff
from keymallet.engines.processes import Processes, cores
from keymallet.sharded import tasks
from keymallet.sharded.tasks import Basis, Case, OneStep, ToFindStaff
from keymallet.store.snapshot import Snapshot

T = TypeVar("T")
R = TypeVar("R")


@dataclass(frozen=True)
class Shards:
    """The shards of a snapshot, with all that is asked across them told; `workers` processes use them."""

    snapshot: Snapshot
    case: Case
    workers: Processes

    def each(self, work: Callable[[T], R], asked: Callable[[Case, int], T]) -> list[R]:
        """What `work` makes of each shard, in their order; `asked` makes its argument of case and number."""
        return list(self.workers.each(work, [asked(self.case, n) for n in range(self.case.shards)]))


@contextmanager
def opened_shards(snapshot: Snapshot, basis: Basis, *, workers: int | None = None) -> Iterator[Shards]:
    """Let the shards tell each other what is asked across them. What they leave is removed at the end.

    If nobody says how many processes there are to be, there is one for each core.
    """
    try:
        folder = tempfile.TemporaryDirectory(prefix="keymallet-shards-")
    except OSError as error:
        raise fail(f"no folder for what shards leave can be made: {error.strerror or error}") from None
    with folder as made, Processes(min(workers or cores(), snapshot.shards)) as processes:
        seeds = (secrets.randbits(64), secrets.randbits(64))
        case = Case(snapshot.folder, snapshot.digest, snapshot.shards, basis, seeds, Path(made))
        yield Shards(snapshot, _exchanged(case, processes), processes)


def _exchanged(case: Case, processes: Processes) -> Case:
    """Let shards tell each other, step by step, what is asked across them."""
    has_anybodys = True
    for step, nodes in enumerate(case.steps):
        shares = any(isinstance(node, typed.Unshared) for node in nodes)
        if shares or has_anybodys:
            asked = [OneStep(case, step, shard) for shard in range(case.shards)]
            told = list(processes.each(tasks.tell, asked))
            has_anybodys = any(there for _, there in told)
            known = dict(case.anybodys)
            for place, node in enumerate(nodes):
                found = [each[place] for each, _ in told if place in each]
                if found and isinstance(node, typed.RowQuery):
                    known[node] = any_of(found)
            case = replace(case, anybodys=known)
        if shares:
            list(processes.each(tasks.share, [OneStep(case, step, n) for n in range(case.buckets)]))
        case = replace(case, steps_told=step + 1)
    return case


def among_all_judged(shards: Shards, parts: Sequence[ShardJudged]) -> Judgement:
    """What is judged of all shards at once, and the counts of all rules: see `judged_together`."""
    basis = shards.case.basis
    nothing = shards.snapshot.without_rows()
    return judged_together(parts, nothing, basis.rulebook, basis.at, basis.clock, basis.register)


def staff_of(shards: Shards) -> pl.DataFrame:
    """The part of the roster that any shard names."""
    named = pl.concat(shards.each(tasks.find_wanted, ToFindStaff)).unique()
    found = shards.each(tasks.find_staff, partial(ToFindStaff, named=named))
    names = pl.concat(found)["name"].drop_nulls().unique()
    return staff(found, shards.each(tasks.find_names, partial(ToFindStaff, named=names)))
