"""Judging step by step from one run to the next: time passes, then the rulebook, the register, the evidence.

The step at which a verdict turned to what it is now is the cause of the change: one for each, found by
judging and not by comparing texts.
"""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass
from datetime import datetime
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.facts.declaration import EXEMPTION
from keymallet.core.facts.evidence import Evidence
from keymallet.core.history.columns import ACCOUNT_KEY, ROW, RULE_KEY
from keymallet.core.history.identity import Identities, rule_keys
from keymallet.core.history.states import Cause
from keymallet.core.judging.judge import Judgement, judge
from keymallet.core.judging.verdicts import Verdict
from keymallet.core.rulebook.model import Rulebook, Tally
from keymallet.core.rulebook.register import Register

NO_ROW, NO_RULE = 100, 101
"""Beside the verdicts' codes: the row is not there; the rulebook has no such rule."""

KINDS = ("nothing", "breach", "exempt", "unproven")
"""What verdicts come to for the life of a finding; what is pending does not count yet."""
_KIND_OF = {
    int(Verdict.BREACH): "breach",
    int(Verdict.EXEMPT): "exempt",
    int(Verdict.UNPROVEN): "unproven",
}


@dataclass(frozen=True)
class Judged:
    """All that one run was judged by: what its verdicts follow from."""

    evidence: Evidence
    rulebook: Rulebook
    register: Register | None
    at: datetime


@dataclass(frozen=True)
class Steps:
    """The judging between two runs, each named by what changed in it; the last is the later run's own."""

    judgements: tuple[tuple[Cause, Judgement], ...]
    before: Judged
    old: Judgement
    """A judging of the old evidence, to look up what was there."""

    @classmethod
    def between(
        cls,
        before: Judged,
        after: Judgement,
        register: Register | None,
        same: Sameness,
        clock: ZoneInfo,
        keys: Collection[str],
    ) -> Steps:
        """Judge the old evidence by the new instant, then by the new rulebook, then with the new register.

        A step in which nothing changed is left out. Only the rules of these `keys` are judged anew.
        """
        old, new = (_only(book, keys) for book in (before.rulebook, after.rulebook))
        found: list[tuple[Cause, Judgement]] = []
        if not same.program:
            found.append((Cause.PROGRAM, judge(before.evidence, old, before.at, clock, before.register)))
        if before.at != after.at:
            found.append((Cause.TIME, judge(before.evidence, old, after.at, clock, before.register)))
        if not same.rulebook:
            found.append((Cause.RULEBOOK, judge(before.evidence, new, after.at, clock, before.register)))
        if not same.register:
            found.append((Cause.REGISTER, judge(before.evidence, new, after.at, clock, register)))
        if not same.evidence:
            found.append((Cause.FACTS, after))
        if found:
            old_judged = found[0][1]
            found[-1] = (found[-1][0], after)
        if not found or old_judged is after:
            old_judged = judge(before.evidence, old, before.at, clock, before.register)
        return cls(tuple(found), before, old_judged)


def _only(book: Rulebook, keys: Collection[str]) -> Rulebook:
    """The rules of these keys; all, where one is on entries of the register: these count what they excuse."""
    called = rule_keys(book)
    wanted = {demand.id for demand in book.demands if called[demand.id] in keys}
    if any(demand.table == EXEMPTION.name for demand in book.demands if demand.id in wanted):
        return book
    return book.only(lambda demand: demand.id in wanted)


@dataclass(frozen=True)
class Sameness:
    """Which of the things two runs were judged by are the same, by their digests."""

    rulebook: bool
    register: bool
    evidence: bool
    program: bool = True


def causes(steps: Steps, turned: pl.DataFrame, known_as: Callable[[Judgement], Identities]) -> pl.DataFrame:
    """The cause of each change: `turned` with `cause`, and `code`, the verdict's code now.

    `turned` has KEYS and `stood`, one of KINDS, as it stood in the run before.
    """
    codes = [(cause, verdicts_of(known_as(judged), turned)) for cause, judged in steps.judgements]
    stood = turned["stood"]
    kinds = [stood, *(_kinds(code) for _, code in codes)]
    for place, (_, code) in enumerate(codes[:-1], 1):
        # Of what was not seen, the old evidence tells as little at another instant or by another rulebook.
        still_open = (stood == "unproven") & (kinds[place] == "nothing") & (code != NO_RULE)
        kinds[place] = kinds[place].set(still_open, "unproven")
    cause = pl.Series("cause", [str(Cause.NOT_KNOWN)]).new_from_index(0, turned.height)
    frame = turned.with_columns(cause.alias("cause"))
    for place, (name, _) in enumerate(codes):
        turns = kinds[place + 1] != kinds[place]
        frame = frame.with_columns(pl.when(turns).then(pl.lit(str(name))).otherwise("cause").alias("cause"))
    last = codes[-1][1] if codes else pl.repeat(None, turned.height, dtype=pl.UInt8, eager=True)
    return frame.with_columns(last.alias("code"))


def _kinds(codes: pl.Series) -> pl.Series:
    return codes.replace_strict(_KIND_OF, default="nothing", return_dtype=pl.String)


def verdicts_of(identities: Identities, wanted: pl.DataFrame) -> pl.Series:
    """The verdict's code on each finding of these KEYS in a judgement, NO_ROW or NO_RULE."""
    judged = identities.judgement
    demands = {identities.rule_keys[demand.id]: demand for demand in judged.rulebook.demands}
    by_table: dict[str, list[pl.DataFrame]] = {}
    parts = [pl.DataFrame(schema={"place": pl.UInt32, "code": pl.UInt8})]
    for (key,), part in wanted.with_row_index("place").group_by(RULE_KEY, maintain_order=True):
        demand = demands.get(str(key))
        if demand is None:
            parts.append(part.select("place", pl.lit(NO_RULE, dtype=pl.UInt8).alias("code")))
        elif isinstance(demand, Tally):
            parts.append(_of_tally(judged, demand, part))
        else:
            by_table.setdefault(demand.table, []).append(part)
    for table, asked in by_table.items():
        # Rows are looked up once for all rules on their table.
        found = identities.located(table, pl.concat(asked))
        for (key,), part in found.group_by(RULE_KEY, maintain_order=True):
            codes = judged.codes[demands[str(key)].id].gather(part[ROW]).fill_null(NO_ROW)
            parts.append(part.select("place").with_columns(codes.alias("code")))
    return pl.concat(parts).sort("place")["code"]


def _of_tally(judged: Judgement, tally: Tally, part: pl.DataFrame) -> pl.DataFrame:
    numbers = judged.numbers[tally.id].select(
        pl.col("group").fill_null("").alias(ACCOUNT_KEY), pl.col("verdict").alias("code")
    )
    found = part.join(numbers, on=ACCOUNT_KEY, how="left", maintain_order="left")
    return found.select("place", pl.col("code").fill_null(NO_ROW))
