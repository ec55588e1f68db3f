"""The verdicts there are, and how one follows from what a rule's two expressions come to."""

from __future__ import annotations

from enum import IntEnum

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
        .then(pl.lit(int(Verdict.OUT_OF_SCOPE), dtype=pl.UInt8))
        .when(must.fill_null(False))
        .then(pl.lit(int(Verdict.MET), dtype=pl.UInt8))
        .when(who.fill_null(False) & ~must.fill_null(True))
        .then(pl.lit(int(Verdict.BREACH), dtype=pl.UInt8))
        .otherwise(pl.lit(int(Verdict.UNPROVEN), dtype=pl.UInt8))
    )
