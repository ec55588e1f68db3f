"""Rows picked by an expression, shard after shard."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial

import polars as pl

from keymallet.core.facts.shards import is_in_every_shard
from keymallet.core.history.answerers import FACTS_USED, answerers_of_accounts
from keymallet.core.history.answers import Answers
from keymallet.core.sharding.staff import asks_for_staff
from keymallet.core.studies.query import Picking, QueryResult, pick, with_facts_of_accounts
from keymallet.sharded.opened import Shards, staff_of
from keymallet.sharded.tasks import Case


@dataclass(frozen=True)
class ToPick:
    """A shard in which rows are picked; with who answers for their accounts, if such columns are `whose`."""

    case: Case
    shard: int
    picking: Picking
    whose: Sequence[str]
    entries: tuple[Answers, ...]
    staff: pl.DataFrame | None


def picked_in_shards(
    shards: Shards, picking: Picking, whose: Sequence[str], entries: tuple[Answers, ...]
) -> list[QueryResult]:
    """What is picked of each shard; of what lies in every shard, that of the first."""
    staff = staff_of(shards) if whose and asks_for_staff(entries) else None
    asked = partial(ToPick, picking=picking, whose=whose, entries=entries, staff=staff)
    if is_in_every_shard(picking.table):
        return [pick_in_shard(asked(shards.case, 0))]
    return shards.each(pick_in_shard, asked)


def pick_in_shard(asked: ToPick) -> QueryResult:
    """Pick the rows of one shard."""
    context = asked.case.context(asked.shard, asked.picking.asked, FACTS_USED if asked.whose else {})
    result = pick(context, asked.picking)
    if not asked.whose:
        return result
    told = answerers_of_accounts(context.frames, asked.entries, "", asked.staff)
    return with_facts_of_accounts(result, told, asked.whose)
