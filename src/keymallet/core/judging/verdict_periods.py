"""Since when a verdict has held, and until when it holds if nothing but time changes."""

from __future__ import annotations

from datetime import datetime

import polars as pl

from keymallet.core.evaluating.steps import END, ROW, VALUE, no_steps
from keymallet.core.evaluating.timeline import Timeline
from keymallet.core.facts.evidence import INSTANT
from keymallet.core.judging.exemptions import past_cover
from keymallet.core.judging.verdicts import Verdict, verdict
from keymallet.core.language import typed
from keymallet.core.language.lowering import AT
from keymallet.core.rulebook.model import Rule


def verdict_steps(
    timeline: Timeline, rule: Rule, rows: pl.Series | None = None, codes: pl.Series | None = None
) -> pl.DataFrame:
    """The verdicts of a rule over time, for the rows on which they change (see `Timeline.steps`).

    Neither grace nor exemptions are looked at: what is pending or exempt stands as a breach. A rule whose
    shared values themselves depend on time is not followed: it has no steps. `codes` are the verdicts of
    all rows at the start of the timeline, where they are known already.
    """
    if isinstance(rule.must, typed.Unshared) and timeline.moves(rule.must):
        return no_steps()
    if codes is not None:
        # Pending and exempt are breaches that do not count yet: over time they are followed as what they are.
        codes = codes.set(codes >= int(Verdict.PENDING), int(Verdict.BREACH))
    asked = [rule.who, rule.must]
    return timeline.steps(rule.table, asked, lambda lowering: verdict(lowering, rule), rows, codes)


def since(past: Timeline, rule: Rule, rows: pl.Series) -> pl.Series:
    """The first instant from which these rows have had their verdict without a break, to the microsecond.

    Null where today's facts tell of no time at which the verdict was another.
    """
    steps = verdict_steps(past, rule, rows)
    last = steps.filter((pl.col(ROW) != pl.col(ROW).shift(-1)).fill_null(True))
    return _for_rows(rows, last).alias("since")


def until(future: Timeline, rule: Rule, rows: pl.Series) -> pl.Series:
    """The first instant at which these rows lose their verdict; null where time alone changes nothing."""
    steps = verdict_steps(future, rule, rows)
    first = _first_of_each(steps.filter(pl.col(AT) > future.stretch.start))
    return _for_rows(rows, first).alias("until")


def exempt_until(covers: pl.DataFrame, at: datetime, rows: pl.Series) -> pl.Series:
    """When exemptions that cover these rows at `at` stop doing so; null where they have no end."""
    now, end = (pl.lit(totals, dtype=INSTANT) for totals in (at, END))
    stretches = rows.cast(pl.UInt32).alias(ROW).to_frame().with_columns(now.alias(AT), end.alias("to"))
    return _for_rows(rows, past_cover(stretches, covers)).alias("until")


def is_pending(past: Timeline, rule: Rule, rows: pl.Series) -> pl.Series:
    """Whether these rows, all in breach, are so for less than the rule's grace.

    Where it cannot be told since when, it is not.
    """
    due = since(past, rule, rows) + rule.grace
    return (due > past.stretch.end).fill_null(False)


def turns_to_breach(
    past: Timeline,
    future: Timeline,
    rule: Rule,
    codes: pl.Series,
    rows: pl.Series | None = None,
    covers: pl.DataFrame | None = None,
) -> pl.DataFrame:
    """The rows that are not in breach now but turn to it: ROW, and AT, the instant at which they do.

    `codes` are the verdicts of all rows of the table; `rows` the ones asked about, or all. A breach
    under grace counts from the end of its grace on, one under `covers` (see `exempting.Covers.of`) from
    the end of that, if it lasts until then.
    """
    steps = verdict_steps(future, rule, rows, codes)
    ends = pl.when(pl.col(ROW) == pl.col(ROW).shift(-1)).then(pl.col(AT).shift(-1))
    end = pl.lit(END, dtype=INSTANT)
    breaches = steps.with_columns(ends.fill_null(end).alias("to")).filter(
        pl.col(VALUE) == int(Verdict.BREACH)
    )
    if rule.grace is not None:
        breaches = _after_grace(past, future, rule, codes, rows, breaches)
    elif covers is not None:
        breaches = _with_exempt(future, codes, rows, breaches)
    if covers is not None:
        breaches = past_cover(breaches, covers)
    turned = breaches.filter((pl.col(AT) > future.stretch.start) & (pl.col(AT) <= future.stretch.end))
    instant = _first_of_each(turned.select(ROW, AT))
    return instant.filter(codes.gather(instant[ROW]) != int(Verdict.BREACH))


def _after_grace(
    past: Timeline,
    future: Timeline,
    rule: Rule,
    codes: pl.Series,
    rows: pl.Series | None,
    breaches: pl.DataFrame,
) -> pl.DataFrame:
    """The same stretches of breach, each from the end of its grace on, if there is anything left of it."""
    # Both are in breach already: their grace began in the past, that of all others begins with their breach.
    spared = pl.concat(_rows_that_are(verdict, codes, rows) for verdict in (Verdict.PENDING, Verdict.EXEMPT))
    began = pl.DataFrame({ROW: spared, "began": since(past, rule, spared)}).with_columns(spared=pl.lit(True))
    now = pl.lit(future.stretch.start, dtype=INSTANT)
    lasting = _lasting(future, began, breaches)
    all_of_them = pl.concat([breaches.select(ROW, AT, "to"), lasting]).join(began, on=ROW, how="left")
    # Of what is exempt the grace may be over, or nobody can tell since when it is broken: then it counts now.
    over = pl.max_horizontal(pl.col("began") + rule.grace, now)
    due = pl.when(pl.col(AT) > now).then(pl.col(AT) + rule.grace).when("spared").then(over)
    return all_of_them.with_columns(due.alias(AT)).filter(pl.col(AT) < pl.col("to")).sort(ROW, AT)


def _with_exempt(
    future: Timeline, codes: pl.Series, rows: pl.Series | None, breaches: pl.DataFrame
) -> pl.DataFrame:
    """The same stretches, and one from now on for each exempt row that nothing but its exemption moves."""
    exempt = _rows_that_are(Verdict.EXEMPT, codes, rows)
    lasting = _lasting(future, exempt.to_frame(), breaches)
    return pl.concat([breaches.select(ROW, AT, "to"), lasting]).sort(ROW, AT)


def _rows_that_are(verdict: Verdict, codes: pl.Series, rows: pl.Series | None) -> pl.Series:
    turns = (codes == int(verdict)).arg_true().cast(pl.UInt32).alias(ROW)
    return turns if rows is None else turns.filter(turns.is_in(rows.implode()))


def _lasting(future: Timeline, rows: pl.DataFrame, breaches: pl.DataFrame) -> pl.DataFrame:
    """A stretch without end for those of the rows, all in breach now, that have none among the breaches."""
    now, end = (pl.lit(matching_rows, dtype=INSTANT) for matching_rows in (future.stretch.start, END))
    return rows.join(breaches, on=ROW, how="anti").select(ROW, now.alias(AT), end.alias("to"))


def _first_of_each(steps: pl.DataFrame) -> pl.DataFrame:
    """The first entry of each row, of entries in the order of rows and instants."""
    return steps.filter((pl.col(ROW) != pl.col(ROW).shift()).fill_null(True))


def _for_rows(rows: pl.Series, spare: pl.DataFrame) -> pl.Series:
    asked = rows.cast(pl.UInt32).alias(ROW).to_frame()
    return asked.join(spare, on=ROW, how="left", maintain_order="left")[AT]
