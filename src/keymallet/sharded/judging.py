"""A snapshot in shards, judged: what each shard tells is brought together step by step."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import NamedTuple

import polars as pl

from keymallet.core.explaining.findings import SHORTCOMINGS, alike, of_nobody
from keymallet.core.explaining.summary import Summary, summary, together
from keymallet.core.history.block_by_block import told_for_the_first_time
from keymallet.core.judging.judge import Judgement
from keymallet.core.judging.verdicts import Verdict
from keymallet.core.rulebook.model import Rulebook
from keymallet.core.sharding.staff import asks_for_staff
from keymallet.engines.scratch import read_bytes
from keymallet.sharded import tasks
from keymallet.sharded.opened import Shards, among_all_judged, staff_of
from keymallet.sharded.tasks import Piece, ToDescribe, ToSumUp, Wording


def judged_in_shards(shards: Shards, *, worst: int, in_full: bool = False) -> tuple[Judgement, Summary]:
    """What is judged of all shards at once, with the counts of all rules; and what all of it comes to.

    The summary has so many of the `worst` accounts; `in_full`, with what is said of breaches.
    """
    parts = shards.each(tasks.sum_up, partial(ToSumUp, worst=worst, in_full=in_full))
    among_all = among_all_judged(shards, [judged for judged, _ in parts])
    of_all = summary(among_all, worst, in_full=in_full)
    book = shards.case.basis.rulebook
    return among_all, together([*(each for _, each in parts), of_all], book, worst)


@dataclass(frozen=True)
class Told:
    """All findings of a snapshot in shards, encoded: `columns` has their columns, without rows."""

    among_all: Judgement
    columns: pl.DataFrame
    encoded: Iterator[bytes]


def told_in_shards(shards: Shards, wording: Wording) -> Told:
    """Judge shard after shard and tell every finding, in the order of the whole.

    Of estates of which no earlier run is known. What is told has to be used before the shards are closed.
    Raises ValueError if two findings of a shard are known by the same.
    """
    if asks_for_staff(wording.entries):
        wording = replace(wording, staff=staff_of(shards))
    parts = shards.each(tasks.describe, partial(ToDescribe, wording=wording))
    among_all = among_all_judged(shards, [judged for judged, *_ in parts])
    nobody = of_nobody(among_all)
    found = [(n, _Found(shards.case.findings(n, "all"), pieces)) for n, (_, pieces, _) in enumerate(parts)]
    # Of these rules something could be judged elsewhere: what they leave unproven is told one by one.
    others = [frozenset(left_out - nobody.keys()) for *_, left_out in parts]
    asked = [ToDescribe(shards.case, n, wording, rules) for n, rules in enumerate(others) if rules]
    more = shards.workers.each(tasks.describe, asked)
    found += [
        (each.shard, _Found(each.file, pieces)) for each, (_, pieces, _) in zip(asked, more, strict=True)
    ]
    in_shards = [each for _, each in sorted(found, key=lambda each: each[0])]
    rest = list(
        told_for_the_first_time(
            among_all,
            alike(among_all, together=True),
            wording.entries,
            structured=wording.structured,
            staff=wording.staff,
        )
    )
    of_all: dict[_Key, list[bytes]] = {}
    for part in (part for block in rest for part in tasks.of_one_rule(block)):
        of_all.setdefault((part["verdict"][0], part["rule"][0]), []).append(wording.encode(part))
    order = _in_order(shards.case.basis.rulebook, nobody)
    return Told(among_all, rest[0].clear(), _encoded(order, in_shards, of_all))


_Key = tuple[str, str]
"""The word of a verdict, and the id of a rule."""


class _Found(NamedTuple):
    """A file with findings, and where in it those of each rule and verdict stand."""

    file: Path
    pieces: list[Piece]


def _in_order(book: Rulebook, nobody: Collection[str]) -> Iterator[_Key]:
    """Rules and verdicts in the order of `alike`."""
    rules = [rule.id for rule in sorted(book.rules, key=lambda rule: -rule.severity)]
    tallies = [tally.id for tally in sorted(book.tallies, key=lambda tally: -tally.severity)]
    for verdict in SHORTCOMINGS:
        last = nobody if verdict is Verdict.UNPROVEN else ()
        first = [rule for rule in rules if rule not in last]
        for demand in (*first, *(rule for rule in rules if rule in last), *tallies):
            yield verdict.word, demand


def _encoded(
    order: Iterator[_Key], found: Sequence[_Found], of_all: Mapping[_Key, list[bytes]]
) -> Iterator[bytes]:
    """The findings rule by rule; within one, those of each shard, then what is judged of all of them."""
    places: list[dict[_Key, list[tuple[int, int]]]] = []
    for each in found:
        places.append({})
        for piece in each.pieces:
            where = (piece.start, piece.length)
            places[-1].setdefault((piece.verdict, piece.rule), []).append(where)
    for key in order:
        for each, known in zip(found, places, strict=True):
            if key in known:
                yield from read_bytes(each.file, known[key])
        yield from of_all.get(key, ())
