"""What outputs have of a finding besides what is said of it: its life, and whose it is."""

from __future__ import annotations

from datetime import datetime

import polars as pl

from keymallet.core.facts.evidence import INSTANT
from keymallet.core.history.columns import ADDED, LABEL
from keymallet.core.history.due import late_by


def added(table: pl.DataFrame, at: datetime) -> pl.DataFrame:
    """ADDED of findings: what they have in every output besides what is said of them."""
    now = pl.lit(at, dtype=INSTANT)
    late = pl.col("due").is_not_null() & (pl.col("due") < now)
    state = pl.when(late & (pl.col("state") == "open")).then(pl.lit("late")).otherwise("state")
    return table.with_columns(late_by(pl.col("due"), now).alias("late-by"), state.alias("state")).select(
        ADDED
    )


def with_lives(found: pl.DataFrame, table: pl.DataFrame, at: datetime) -> pl.DataFrame:
    """Findings as `describe` says them, with ADDED by a run's table of each; null where it has none."""
    known = table.select(LABEL).hstack(added(table, at)).unique(LABEL, keep="none")
    return found.join(known, on=LABEL, how="left", maintain_order="left", nulls_equal=True)
