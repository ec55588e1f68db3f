"""How findings went over many runs: how long mending took, by severity."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime

import polars as pl

from keymallet.core.facts.evidence import INSTANT
from keymallet.core.history.columns import FINDING
from keymallet.core.history.states import State
from keymallet.core.rulebook.model import SEVERITIES

_BEGINS = (State.NEW, State.BACK, State.EXEMPTION_ENDED)
SLOW = 0.9


def times_to_mend(
    transitions: pl.DataFrame, judged_at: Mapping[int, datetime], since: datetime
) -> pl.DataFrame:
    """How long findings mended since an instant had been open: `severity`, `mended`, `median`, `slow`.

    `slow` is the 90th percentile. A finding is open from the run that first saw it; one that came back, from
    the run that saw it again. What is still open is not in it.
    """
    instants = pl.DataFrame(
        {"run": list(judged_at), "at": list(judged_at.values())}, schema={"run": pl.Int64, "at": INSTANT}
    )
    ordered = transitions.join(instants, on="run", how="inner").sort(FINDING, "run", maintain_order=True)
    begins = pl.when(pl.col("state").is_in(list(map(str, _BEGINS)))).then("at")
    began = begins.forward_fill().over(FINDING).fill_null(pl.col("first-seen"))
    mended = ordered.with_columns(began.alias("began")).filter(
        (pl.col("state") == str(State.MENDED)) & (pl.col("at") >= since)
    )
    # A run whose clock was set back lies before those it follows.
    took = pl.max_horizontal(pl.col("at") - pl.col("began"), pl.duration(microseconds=0))
    slow = took.dt.total_microseconds().quantile(SLOW, "linear").cast(pl.Int64).cast(pl.Duration("us"))
    return (
        mended.group_by("severity")
        .agg(
            pl.len().cast(pl.Int64).alias("mended"),
            took.median().alias("median"),
            slow.alias("slow"),
        )
        .sort(pl.col("severity").cast(pl.Enum(list(SEVERITIES))))
    )
