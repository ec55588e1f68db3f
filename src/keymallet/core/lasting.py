"""Since when a verdict has held, and until when it holds if nothing but time changes."""

from __future__ import annotations

import polars as pl

from keymallet.core.judge import Judgement, Verdict, verdict
from keymallet.core.language.lower import AT
from keymallet.core.rulebook import Rule
from keymallet.core.timeline import ROW, VALUE, Timeline

_INSTANT = pl.Datetime("us", "UTC")


def verdict_steps(timeline: Timeline, rule: Rule, rows: pl.Series | None = None) -> pl.DataFrame:
    """The verdicts of a rule over time, for the rows on which they change (see `Timeline.steps`)."""
    return timeline.steps(rule.table, [rule.who, rule.must], lambda lowering: verdict(lowering, rule), rows)


def since(judgement: Judgement, rule: Rule, rows: pl.Series) -> pl.Series:
    """The first instant from which these rows have had their verdict without a break, to the microsecond.

    Null where today's facts tell of no time at which the verdict was another.
    """
    steps = verdict_steps(judgement.past, rule, rows)
    last = steps.group_by(ROW).agg(pl.col(AT).max())
    return _for_rows(rows, last).alias("since")


def until(judgement: Judgement, rule: Rule, rows: pl.Series) -> pl.Series:
    """The first instant at which these rows lose their verdict; null where time alone changes nothing."""
    steps = verdict_steps(judgement.future, rule, rows)
    first = steps.filter(pl.col(AT) > judgement.at).group_by(ROW).agg(pl.col(AT).min())
    return _for_rows(rows, first).alias("until")


def breach_from(judgement: Judgement, rule: Rule, rows: pl.Series) -> pl.Series:
    """The first instant at which rows not in breach turn to it; null where time alone does not do it."""
    steps = verdict_steps(judgement.future, rule, rows)
    turned = (pl.col(AT) > judgement.at) & (pl.col(VALUE) == int(Verdict.BREACH))
    return _for_rows(rows, steps.filter(turned).group_by(ROW).agg(pl.col(AT).min())).alias("breach-from")


def _for_rows(rows: pl.Series, found: pl.DataFrame) -> pl.Series:
    asked = rows.cast(pl.UInt32).alias(ROW).to_frame()
    return asked.join(found, on=ROW, how="left", maintain_order="left")[AT]
