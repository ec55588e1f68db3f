"""The verdicts there are, and how one follows from what a rule's two expressions come to."""

from __future__ import annotations

from enum import IntEnum
from functools import cache

import polars as pl

from keymallet.core.language.lowering import Lowering
from keymallet.core.rulebook.model import Rule


class Verdict(IntEnum):
    """What a rule says of a row."""

    OUT_OF_SCOPE = 0
    MET = 1
    BREACH = 2
    UNPROVEN = 3
    PENDING = 4  # in breach, for less time than the rule's grace
    EXEMPT = 5  # in breach, and an exemption in force covers it

    @property
    def word(self) -> str:
        """The verdict as it is written in outputs."""
        return self.name.lower().replace("_", " ")


def verdict(lowering: Lowering, rule: Rule) -> pl.Expr:
    """The verdict's code, from what `who` and `must` come to; a rule's grace is not looked at."""
    who, must = lowering.lower(rule.who), lowering.lower(rule.must)
    return (
        pl.when(~who.fill_null(True))
        .then(_code(Verdict.OUT_OF_SCOPE))
        .when(must.fill_null(False))
        .then(_code(Verdict.MET))
        .when(who.fill_null(False) & ~must.fill_null(True))
        .then(_code(Verdict.BREACH))
        .otherwise(_code(Verdict.UNPROVEN))
    )


@cache
def _code(verdict: Verdict) -> pl.Expr:
    return pl.lit(int(verdict), dtype=pl.UInt8)
