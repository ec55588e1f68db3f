"""Facts and rulebook to verdicts: one code for each rule and row, worked out as columns."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from functools import cached_property
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.evaluating.context import EvaluationContext
from keymallet.core.evaluating.elsewhere import Elsewhere
from keymallet.core.evaluating.steps import ROW
from keymallet.core.evaluating.timeline import Timeline
from keymallet.core.facts.declaration import ACCOUNT, EXEMPTION, TABLES
from keymallet.core.facts.evidence import ACCOUNT_ROW, Evidence
from keymallet.core.judging.exemptions import ENTRY, Covers, in_force
from keymallet.core.judging.register_facts import registered
from keymallet.core.judging.tallies import numbers_of
from keymallet.core.judging.verdict_periods import is_pending, since, turns_to_breach, until
from keymallet.core.judging.verdicts import Verdict, verdict
from keymallet.core.rulebook.model import Demand, Rule, Rulebook
from keymallet.core.rulebook.register import Register


@dataclass(frozen=True, slots=True)
class RuleCount:
    """How many rows a rule is for, and what it says of them; of a tally, how many numbers."""

    rule: Demand
    met: int
    breach: int
    unproven: int
    pending: int = 0
    exempt: int = 0

    @classmethod
    def of(cls, rule: Demand, codes: pl.Series) -> RuleCount:
        """Count the verdicts on the rows of a rule's table, or on a tally's numbers."""
        return cls(rule, *(int((codes == verdict).sum()) for verdict in list(Verdict)[1:]))

    @property
    def numbers(self) -> tuple[int, ...]:
        """What is counted of each verdict, in the order of their codes."""
        return (self.met, self.breach, self.unproven, self.pending, self.exempt)

    @property
    def in_scope(self) -> int:
        """All rows the rule is for, or may be for."""
        return sum(self.numbers)


class Judgement:
    """The verdicts of one rulebook on one body of evidence, at one instant."""

    def __init__(
        self,
        rulebook: Rulebook,
        context: EvaluationContext,
        codes: dict[str, pl.Series],
        numbers: dict[str, pl.DataFrame],
        covers: Covers | None = None,
        counts: list[RuleCount] | None = None,
    ) -> None:
        """Hold verdicts; `counts` are those of all shards, where these are the verdicts of one part alone."""
        self.rulebook = rulebook
        self.context = context
        self.codes = codes
        self.numbers = numbers
        self.covers = covers
        self._counts_of_all = counts
        self._rows: dict[tuple[str, Verdict], pl.Series] = {}

    @property
    def at(self) -> datetime:
        """The instant judged at."""
        return self.context.at

    @property
    def evidence(self) -> Evidence:
        """What was judged."""
        return self.context.evidence

    @cached_property
    def past(self) -> Timeline:
        """How everything came to be as it is at the instant judged at."""
        return Timeline.until_now(self.context)

    @cached_property
    def future(self) -> Timeline:
        """How everything goes on from the instant judged at, if nothing but time changes."""
        return Timeline.from_now(self.context)

    def counts(self) -> list[RuleCount]:
        """The number of each verdict, rule by rule, in the rulebook's order; then the tallies."""
        return self._counts

    @cached_property
    def _counts(self) -> list[RuleCount]:
        if self._counts_of_all is not None:
            return self._counts_of_all
        return [RuleCount.of(demand, self.codes[demand.id]) for demand in self.rulebook.demands]

    def rows(self, rule: Rule, verdict: Verdict) -> pl.Series:
        """The rows of the rule's table that got this verdict."""
        key = (rule.id, verdict)
        if key not in self._rows:
            self._rows[key] = (self.codes[rule.id] == verdict).arg_true().cast(pl.UInt32)
        return self._rows[key]

    def since(self, rule: Rule, rows: pl.Series) -> pl.Series:
        """Since when these rows have their verdict; see `lasting.since`."""
        return since(self.past, rule, rows)

    def until(self, rule: Rule, rows: pl.Series) -> pl.Series:
        """When these rows lose their verdict by time alone; see `lasting.until`."""
        return until(self.future, rule, rows)

    def turning(self, rule: Rule, rows: pl.Series | None = None) -> pl.DataFrame:
        """Which rows turn to breach, and when; see `lasting.turns_to_breach`."""
        return turns_to_breach(self.past, self.future, rule, self.codes[rule.id], rows, self.covered(rule))

    def covered(self, rule: Rule) -> pl.DataFrame | None:
        """Which rows of the rule's table exemptions cover, and when; None where none is about the rule."""
        if self.covers is None or not self.covers.touches(rule):
            return None
        return self.covers.of(rule, self.context.frames[rule.table])

    def accounts(self, rule: Rule, rows: pl.Series) -> pl.Series:
        """The account rows that these rows of the rule's table are, or belong to (null if to none)."""
        if rule.table == ACCOUNT.name:
            return rows
        if not TABLES[rule.table].of_account:
            return pl.Series([None], dtype=pl.UInt32).new_from_index(0, len(rows))
        return self.context.frames[rule.table][ACCOUNT_ROW].gather(rows)


def judge(
    evidence: Evidence,
    rulebook: Rulebook,
    at: datetime,
    clock: ZoneInfo,
    register: Register | None = None,
    elsewhere: Elsewhere | None = None,
) -> Judgement:
    """Judge every row by every rule at the instant `at`; plain dates in rules are in `clock`.

    Where the evidence is one shard of it, `elsewhere` is what holds in the others. A breach that an exemption
    of the `register` covers is exempt; so is one that would be pending.

    Verdicts follow Kleene's three-valued logic: a rule that is not known to be broken, but not
    known to be kept either, is unproven.
    """
    context, covers = context_of(evidence, rulebook, at, clock, register, elsewhere)
    context.prepare(rulebook.expressions())
    codes: dict[str, pl.Series] = {}
    # The register last: whether an entry is still needed shows once all else is judged.
    tables = dict.fromkeys(rule.table for rule in rulebook.rules)
    for table in sorted(tables, key=lambda name: name == EXEMPTION.name):
        rules = [rule for rule in rulebook.rules if rule.table == table]
        # How many breaches an entry excuses is a fact that rules on the register may ask about; it is known
        # only now, when every other table is judged. So the frame of entries is replaced before theirs are.
        if covers is not None and table == EXEMPTION.name:
            _count_excused(context, rulebook, codes, covers)
        codes.update(codes_of(context, rules))
    if covers is not None:
        if EXEMPTION.name not in tables:
            _count_excused(context, rulebook, codes, covers)
        exempt(context, rulebook, codes, covers)
    numbers = {tally.id: numbers_of(context, tally) for tally in rulebook.tallies}
    codes.update((name, frame["verdict"]) for name, frame in numbers.items())
    return Judgement(rulebook, context, codes, numbers, covers)


def context_of(
    evidence: Evidence,
    rulebook: Rulebook,
    at: datetime,
    clock: ZoneInfo,
    register: Register | None = None,
    elsewhere: Elsewhere | None = None,
) -> tuple[EvaluationContext, Covers | None]:
    """The evidence with the register in it, ready to be judged; and whom exemptions cover."""
    covers = None
    if register is not None:
        rules = rulebook if elsewhere is None else elsewhere.rulebook
        evidence, covers = registered(evidence, register, rules, at)
    return EvaluationContext(evidence, at, clock, elsewhere), covers


def codes_of(context: EvaluationContext, rules: list[Rule]) -> dict[str, pl.Series]:
    """The verdicts of rules on one table, by their ids; what they ask must have been prepared."""
    verdicts = context.select(rules[0].table, [verdict(context.lowering, rule) for rule in rules])
    codes = dict(zip((rule.id for rule in rules), verdicts, strict=True))
    for rule in rules:
        if rule.grace is not None:
            codes[rule.id] = _with_pending(context, rule, codes[rule.id])
    return codes


def _count_excused(
    context: EvaluationContext, rulebook: Rulebook, codes: dict[str, pl.Series], covers: Covers
) -> None:
    """Enter of each exemption how many breaches it covers, whether it is in force or not."""
    parts = [pl.DataFrame(schema={ENTRY: pl.UInt32})]
    for rule in filter(covers.touches, rulebook.rules):
        if rule.id in codes:
            covered = covers.of(rule, context.frames[rule.table])
            broken = codes[rule.id].gather(covered[ROW]).is_in(_BROKEN)
            parts.append(covered.filter(broken).select(ENTRY))
    counted = pl.concat(parts)[ENTRY].value_counts(name="excused")
    entries = context.frames[EXEMPTION.name]
    excused = entries["excuses"].scatter(counted[ENTRY], counted["excused"].cast(pl.Int64))
    context.frames[EXEMPTION.name] = entries.with_columns(excused)


_BROKEN = [int(Verdict.BREACH), int(Verdict.PENDING)]


def exempt(
    context: EvaluationContext, rulebook: Rulebook, codes: dict[str, pl.Series], covers: Covers
) -> None:
    """Set to exempt what is broken and covered by an exemption in force."""
    for rule in filter(covers.touches, rulebook.rules):
        covered = in_force(covers.of(rule, context.frames[rule.table]), context.at)
        if covered.height:
            rows = covered[ROW].unique()
            broken = rows.filter(codes[rule.id].gather(rows).is_in(_BROKEN))
            codes[rule.id] = codes[rule.id].scatter(broken, int(Verdict.EXEMPT))


def _with_pending(context: EvaluationContext, rule: Rule, codes: pl.Series) -> pl.Series:
    """The codes, with those breaches set to pending that are younger than the rule's grace."""
    rows = (codes == int(Verdict.BREACH)).arg_true().cast(pl.UInt32)
    young = rows.filter(is_pending(Timeline.until_now(context), rule, rows))
    return codes.scatter(young, int(Verdict.PENDING))
