"""By when each finding has to be mended, by the rulebook; and how late it is."""

from __future__ import annotations

import polars as pl

from keymallet.core.facts.evidence import INSTANT
from keymallet.core.history.states import BROKEN
from keymallet.core.rulebook.model import SINCE, Rulebook

SPAN = pl.Duration("us")


def due_dates(findings: pl.DataFrame, book: Rulebook) -> pl.Series:
    """The last instant at which each finding is in its time, or null where it has none.

    `findings` has `rule`, `state`, `open-since`, `since`. The time is counted from the run that saw it (of
    one that came back, that saw it again), or if the rulebook says so from when the breach began, where that
    is known. What is exempt, or not seen, has no due date.
    """
    within = {demand.id: demand.mend_within for demand in book.demands}
    by_since = [demand.id for demand in book.demands if demand.counted_from == SINCE]
    span = pl.col("rule").replace_strict(within, default=None, return_dtype=SPAN)
    began = pl.when(pl.col("rule").is_in(by_since)).then(pl.coalesce("since", "open-since"))
    due = began.otherwise(pl.col("open-since")).cast(INSTANT) + span
    broken = pl.col("state").is_in([str(state) for state in BROKEN])
    return findings.select(pl.when(broken).then(due).alias("due")).to_series()


def late_by(due: pl.Expr, at: pl.Expr) -> pl.Expr:
    """How long past its due date a finding is at an instant; null where it is not, or has none."""
    return pl.when(at > due).then(at - due)
