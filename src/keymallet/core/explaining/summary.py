"""What a judging comes to in short: the worst accounts, how many by topic, and who else falls short."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import polars as pl

from keymallet.core.explaining.findings import (
    Besides,
    besides,
    findings,
    on_numbers,
    on_people,
    on_register,
    on_systems,
)
from keymallet.core.explaining.worst import accounts_by_topic, breaches_in_short, ranked_worst
from keymallet.core.facts.declaration import ACCOUNT
from keymallet.core.judging.judge import Judgement
from keymallet.core.judging.verdicts import Verdict
from keymallet.core.rulebook.model import Rulebook

ON = (on_people, on_systems, on_register, on_numbers)
"""What describes the breaches that are no account's, in the order of `Besides`."""


@dataclass(frozen=True)
class Summary:
    """What a judging, or one shard of it, comes to.

    `worst` has a row for each of the worst accounts, the worst first: `account`, `score`, `breaches`, and
    `severity` and `title` of the gravest. `breached` is how many accounts are in breach in all. `described`
    is what is said of the breaches of the worst, `on` of those that are no account's, as `ON` has them; empty
    where that was not asked.
    """

    worst: pl.DataFrame
    breached: int
    by_topic: dict[str, int]
    besides: Besides
    described: pl.DataFrame
    on: tuple[pl.DataFrame, ...]


def summary(judgement: Judgement, most: int, *, in_full: bool = False) -> Summary:
    """Sum up a judging with so many of its worst accounts; with `in_full`, describe what is in breach."""
    ranked, breached = ranked_worst(judgement, most)
    rows = ranked["row"]
    names = judgement.evidence.tables[ACCOUNT.name]["account"].gather(rows)
    worst = breaches_in_short(judgement, rows).drop("row").hstack([names, ranked["score"]])
    nothing = findings(judgement, ())
    return Summary(
        worst.select("account", "score", "breaches", "severity", "title"),
        breached,
        accounts_by_topic(judgement),
        besides(judgement),
        findings(judgement, (Verdict.BREACH,), rows) if in_full else nothing,
        tuple(describe(judgement) if in_full else nothing for describe in ON),
    )


def together(parts: Sequence[Summary], rulebook: Rulebook, most: int) -> Summary:
    """The summary of all shards, from that of each, in their order."""
    ranked = pl.concat(part.worst for part in parts).sort("score", descending=True, maintain_order=True)
    worst = ranked.head(most)
    gravest_first = sorted(rulebook.demands, key=lambda demand: -demand.severity)
    rules = pl.Enum([demand.id for demand in gravest_first])

    def in_order(frames: Iterable[pl.DataFrame]) -> pl.DataFrame:
        return pl.concat(frames).sort(pl.col("rule").cast(rules), maintain_order=True)

    described = in_order(part.described for part in parts)
    return Summary(
        worst,
        sum(part.breached for part in parts),
        {topic: sum(part.by_topic[topic] for part in parts) for topic in parts[0].by_topic},
        Besides(*(sum(numbers) for numbers in zip(*(part.besides for part in parts), strict=True))),
        described.filter(pl.col("account").is_in(worst["account"].implode())),
        tuple(in_order(frames) for frames in zip(*(part.on for part in parts), strict=True)),
    )
