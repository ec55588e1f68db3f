"""What became of findings over several runs: the changes between them, put together into one for each."""

from __future__ import annotations

import polars as pl

from keymallet.core.history.columns import FINDING
from keymallet.core.history.states import ENDS, State

_OVER = ["", *map(str, ENDS)]


def net_changes(transitions: pl.DataFrame) -> pl.DataFrame:
    """One change for each finding: from the state it had first to the one it has last, with the last cause.

    `transitions` has `run`, FINDING, `was` and `state`, of consecutive runs. What came and went meanwhile is
    left out. What ended and came again is back, whatever came after.
    """
    ordered = transitions.sort("run", maintain_order=True)
    first = ordered.group_by(FINDING, maintain_order=True).agg(pl.col("was").first().alias("was-first"))
    last = ordered.unique(FINDING, keep="last", maintain_order=True)
    net = last.join(first, on=FINDING, how="left", maintain_order="left")
    before, now = pl.col("was-first").is_in(_OVER), pl.col("state").is_in(_OVER)
    net = net.filter(~(before & now))
    came = before & (pl.col("was-first") == "") & (pl.col("state") == str(State.OPEN))
    state = pl.when(came).then(pl.lit(str(State.NEW))).otherwise("state")
    return net.with_columns(pl.col("was-first").alias("was"), state.alias("state")).drop("was-first")


def passing(transitions: pl.DataFrame) -> int:
    """How many findings came and went meanwhile."""
    ordered = transitions.sort("run", maintain_order=True)
    ends = ordered.group_by(FINDING).agg(pl.col("was").first(), pl.col("state").last())
    return ends.filter(pl.col("was").is_in(_OVER) & pl.col("state").is_in(_OVER)).height
