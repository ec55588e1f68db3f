"""Findings that are not there yet: what each will be known by, and whose it will be."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

from keymallet.core.explaining.findings import Alike
from keymallet.core.history.answerers import answerers
from keymallet.core.history.answers import Answers
from keymallet.core.history.columns import ADDED, ADDED_SCHEMA, ANSWERER, FINDING, ROW
from keymallet.core.history.observed import observe
from keymallet.core.history.states import Cause
from keymallet.core.judging.judge import Judgement
from keymallet.core.judging.verdicts import Verdict

TO_COME = "to come"
"""The state of a finding that only time keeps from being one."""


def added_to_come(
    judgement: Judgement,
    events: pl.DataFrame,
    known: pl.DataFrame | None,
    entries: Sequence[Answers],
    staff: pl.DataFrame | None = None,
) -> pl.DataFrame:
    """ADDED for rows that turn to breach: `events` has the `rule` of each and its ROW in the rule's table.

    `known` are the findings of the last run, by which accounts are known again; `staff` is as `Answering` has
    it.
    """
    events = events.select(pl.col("rule").cast(pl.String), pl.col(ROW).cast(pl.UInt32))
    rules = {rule.id: rule for rule in judgement.rulebook.rules}
    found = [
        Alike(rules[str(rule)], Verdict.BREACH, part[ROW])
        for (rule,), part in events.unique().group_by("rule", maintain_order=True)
    ]
    observed = observe(judgement, known, found)
    whose = answerers(observed, entries, staff).select(ANSWERER)
    told = observed.frame.select("rule", ROW, FINDING).hstack(whose)
    frame = events.join(told, on=["rule", ROW], how="left", maintain_order="left")
    said = {"state": TO_COME, "cause": str(Cause.TIME)}
    return frame.select(
        name if name in (FINDING, ANSWERER) else pl.lit(said.get(name), dtype=ADDED_SCHEMA[name]).alias(name)
        for name in ADDED
    )
