"""Facts and rulebook to verdicts: one code for each rule and row, worked out as columns."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from enum import IntEnum
from functools import cached_property
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core import facts
from keymallet.core.evidence import ROW, Evidence
from keymallet.core.language.lower import Lowering
from keymallet.core.rulebook import Rule, Rulebook
from keymallet.core.timeline import Timeline
from keymallet.core.workspace import Workspace


class Verdict(IntEnum):
    """What a rule says of a row."""

    OUT_OF_SCOPE = 0
    MET = 1
    BREACH = 2
    UNPROVEN = 3

    @property
    def word(self) -> str:
        """The verdict as it is written in outputs."""
        return self.name.lower().replace("_", " ")


@dataclass(frozen=True, slots=True)
class RuleCount:
    """How many rows a rule is for, and what it says of them."""

    rule: Rule
    met: int
    breach: int
    unproven: int

    @property
    def in_scope(self) -> int:
        """All rows the rule is for, or may be for."""
        return self.met + self.breach + self.unproven


class Judgement:
    """The verdicts of one rulebook on one body of evidence, at one instant."""

    def __init__(self, rulebook: Rulebook, workspace: Workspace, codes: dict[str, pl.Series]) -> None:
        self.rulebook = rulebook
        self.workspace = workspace
        self.codes = codes
        self._rows: dict[tuple[str, Verdict], pl.Series] = {}

    @property
    def at(self) -> datetime:
        """The instant judged at."""
        return self.workspace.at

    @property
    def evidence(self) -> Evidence:
        """What was judged."""
        return self.workspace.evidence

    @cached_property
    def past(self) -> Timeline:
        """How everything came to be as it is at the instant judged at."""
        return Timeline.until_now(self.workspace)

    @cached_property
    def future(self) -> Timeline:
        """How everything goes on from the instant judged at, if nothing but time changes."""
        return Timeline.from_now(self.workspace)

    def counts(self) -> list[RuleCount]:
        """The number of each verdict, rule by rule, in the rulebook's order."""
        return [
            RuleCount(rule, *(int((self.codes[rule.id] == verdict).sum()) for verdict in list(Verdict)[1:]))
            for rule in self.rulebook.rules
        ]

    def rows(self, rule: Rule, verdict: Verdict) -> pl.Series:
        """The rows of the rule's table that got this verdict."""
        key = (rule.id, verdict)
        if key not in self._rows:
            self._rows[key] = (self.codes[rule.id] == verdict).arg_true().cast(pl.UInt32)
        return self._rows[key]

    def accounts(self, rule: Rule, rows: pl.Series) -> pl.Series:
        """The account rows that these rows of the rule's table are, or belong to (null if to none)."""
        if rule.table == facts.ACCOUNT.name:
            return rows
        if not facts.TABLES[rule.table].of_account:
            return pl.Series([None], dtype=pl.UInt32).new_from_index(0, len(rows))
        return self.workspace.frames[rule.table][ROW].gather(rows)


def judge(evidence: Evidence, rulebook: Rulebook, at: datetime, clock: ZoneInfo) -> Judgement:
    """Judge every row by every rule at the instant `at`; plain dates in rules are in `clock`.

    Verdicts follow Kleene's three-valued logic: a rule that is not known to be broken, but not
    known to be kept either, is unproven.
    """
    workspace = Workspace(evidence, at, clock)
    workspace.prepare(rulebook.expressions())
    codes: dict[str, pl.Series] = {}
    for table in dict.fromkeys(rule.table for rule in rulebook.rules):
        rules = [rule for rule in rulebook.rules if rule.table == table]
        verdicts = workspace.select(table, [verdict(workspace.lowering, rule) for rule in rules])
        codes.update(zip((rule.id for rule in rules), verdicts, strict=True))
    return Judgement(rulebook, workspace, codes)


def verdict(lowering: Lowering, rule: Rule) -> pl.Expr:
    """The verdict's code, from what `who` and `must` come to."""
    who, must = lowering.lower(rule.who), lowering.lower(rule.must)
    return (
        pl.when(~who.fill_null(True))
        .then(pl.lit(int(Verdict.OUT_OF_SCOPE), dtype=pl.UInt8))
        .when(must.fill_null(False))
        .then(pl.lit(int(Verdict.MET), dtype=pl.UInt8))
        .when(who.fill_null(False) & ~must.fill_null(True))
        .then(pl.lit(int(Verdict.BREACH), dtype=pl.UInt8))
        .otherwise(pl.lit(int(Verdict.UNPROVEN), dtype=pl.UInt8))
    )
