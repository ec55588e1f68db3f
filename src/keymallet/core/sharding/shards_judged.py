"""Shards judged one by one, and what their judgings come to together."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.base.listing import MOST_NAMED
from keymallet.core.explaining.tally_reasons import members_by_group
from keymallet.core.facts.declaration import ACCOUNT, EXEMPTION
from keymallet.core.facts.evidence import Evidence
from keymallet.core.facts.shards import is_in_every_shard
from keymallet.core.judging.exemptions import Covers
from keymallet.core.judging.judge import Judgement, RuleCount, codes_of, context_of, exempt
from keymallet.core.judging.register_facts import EVERYWHERE
from keymallet.core.judging.tallies import GROUP, counted, judged_numbers
from keymallet.core.rulebook.model import Demand, Rule, Rulebook
from keymallet.core.rulebook.register import Register

_NO_CODES = pl.Series(dtype=pl.UInt8)


def book_of_shard(rulebook: Rulebook, *, is_first: bool) -> Rulebook:
    """The rules that are judged in a shard: on its own rows, and in the first on what lies in every shard."""
    return rulebook.only(
        lambda demand: (
            isinstance(demand, Rule)
            and demand.table != EXEMPTION.name
            and (is_first or not is_in_every_shard(demand.table))
        )
    )


@dataclass(frozen=True)
class ShardJudged:
    """What one shard's judging comes to.

    `counts` are numbers of verdicts by rule. `numbers` are of the rows that tallies count: GROUP, `sure`,
    `may`, the first few `names` and how many `all` are. `entries` is the register as the shard sees it.
    """

    counts: dict[str, tuple[int, ...]]
    numbers: dict[str, pl.DataFrame]
    entries: pl.DataFrame | None


def shard_judged(judgement: Judgement, rulebook: Rulebook, *, is_first: bool) -> ShardJudged:
    """Count a shard's verdicts, and what the tallies of the whole rulebook count of its rows."""
    context = judgement.context
    counts = {count.rule.id: count.numbers for count in judgement.counts()}
    numbers = {}
    for tally in rulebook.tallies:
        if tally.table != EXEMPTION.name and (is_first or not is_in_every_shard(tally.table)):
            named = members_by_group(context, tally)
            numbers[tally.id] = counted(context, tally).join(named, on=GROUP, how="left", nulls_equal=True)
    entries = None if judgement.covers is None else context.frames[EXEMPTION.name]
    return ShardJudged(counts, numbers, entries)


def judged_together(
    parts: Sequence[ShardJudged],
    of_none: Evidence,
    rulebook: Rulebook,
    at: datetime,
    clock: ZoneInfo,
    register: Register | None = None,
) -> Judgement:
    """What is judged of all shards at once: the register's entries, and the tallies.

    `of_none` is evidence that says what sources supply, without rows. The counts are those of all rules; rows
    of rules that were judged in shards are not in it.
    """
    covers = None
    if register is not None:
        entries = _entries([part.entries for part in parts if part.entries is not None])
        tables = {**of_none.tables, EXEMPTION.name: entries}
        of_none = Evidence(tables, of_none.supply, of_none.read_at, EVERYWHERE)
        covers = Covers(register.as_of(at), of_none.tables[ACCOUNT.name]["account"])
    context, _ = context_of(of_none, rulebook, at, clock)
    own = rulebook.only(lambda demand: demand.table == EXEMPTION.name)
    context.prepare(own.expressions())
    codes = codes_of(context, list(own.rules)) if own.rules else {}
    if covers is not None:
        exempt(context, own, codes, covers)
    numbers = {}
    for tally in rulebook.tallies:
        told = [part.numbers[tally.id] for part in parts if tally.id in part.numbers]
        numbers[tally.id] = judged_numbers(context, tally, _added(told) if told else counted(context, tally))
    codes.update((name, frame["verdict"]) for name, frame in numbers.items())
    counts = [_count(demand, parts, codes) for demand in rulebook.demands]
    codes = {rule.id: _NO_CODES for rule in rulebook.rules} | codes
    return Judgement(rulebook, context, codes, numbers, covers, counts)


def _count(demand: Demand, parts: Sequence[ShardJudged], codes: dict[str, pl.Series]) -> RuleCount:
    if demand.id in codes:
        return RuleCount.of(demand, codes[demand.id])
    counts = [part.counts[demand.id] for part in parts if demand.id in part.counts]
    return RuleCount(demand, *(sum(numbers) for numbers in zip(*counts, strict=True)))


def _added(numbers: Sequence[pl.DataFrame]) -> pl.DataFrame:
    """The numbers of all shards by group, with the first few names of the first shards."""
    return (
        pl.concat(numbers)
        .group_by(GROUP, maintain_order=True)
        .agg(
            pl.col("sure", "may").sum(),
            pl.col("names").explode().drop_nulls().head(MOST_NAMED),
            pl.col("all").sum(),
        )
    )


def _entries(parts: Sequence[pl.DataFrame]) -> pl.DataFrame:
    """The register's entries, with what the accounts of all shards say of each."""
    first = parts[0]
    named_nobody = [
        [pattern for pattern in lists[0] if all(pattern in each for each in lists)]
        for lists in zip(*(part["names-nobody"].to_list() for part in parts), strict=True)
    ]
    approves = pl.DataFrame([part["approves-itself"].alias(str(n)) for n, part in enumerate(parts)])
    return first.with_columns(
        *(
            pl.Series(
                name, [sum(each) for each in zip(*(part[name] for part in parts), strict=True)], pl.Int64
            )
            for name in ("covers", "excuses")
        ),
        pl.Series("names-nobody", named_nobody, dtype=pl.List(pl.String)),
        approves.select(pl.any_horizontal(pl.all())).to_series().alias("approves-itself"),
    )
