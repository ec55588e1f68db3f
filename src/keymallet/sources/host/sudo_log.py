"""What sudo writes into `auth.log` and `secure`: who acted as whom, when, for how long, and who was refused.

Only that somebody did is taken: a command may hold what is nobody's business.
"""

from __future__ import annotations

import polars as pl

SUDO = r"sudo(?:\[(\d+)\])?: +(\S+) : (?:([^=;]+) ; )?(?:.*? ; )?USER=(\S+) ;(?: .*)?$"
"""Its process if that is told, the account, why it was refused, and as whom it wanted to act."""
CLOSED = r"sudo(?:\[(\d+)\])?: pam_unix\(sudo(?:-i)?:session\): session closed for user "
"""The end of what a process did."""

ELEVATIONS = ("account", "elevation", "role", "starts", "ends", "closed", "outcome", "by-own-right")
"""The columns of what is found; `unread` beside them where the end cannot be told."""


def elevations(asked: pl.DataFrame, closings: pl.DataFrame) -> pl.DataFrame:
    """Each use of sudo as an elevation: ELEVATIONS, and `open-ended` where it cannot be told when it ended.

    `asked` has `process`, `account`, `refused`, `as_whom`, `at` and `line`, and `closings` `process`, `at`
    and `line`. Where lines name their process, an end is that of the same process; where they do not, of the
    one that runs alone. Where no end is written down at all, none can be told.
    """
    asked = asked.drop_nulls("at").sort("at", "line")
    ran = asked.filter(pl.col("refused").is_null())
    ends = _ends(ran, closings.drop_nulls("at"))
    found = asked.join(ends, on="line", how="left", maintain_order="left")
    number = pl.int_range(pl.len()).over("account", "at")
    name = pl.format("sudo {}", pl.col("at").dt.strftime("%Y%m%dT%H%M%SZ"))
    return found.select(
        "account",
        pl.when(number > 0).then(pl.format("{} {}", name, number + 1)).otherwise(name).alias("elevation"),
        pl.format("sudo as {}", "as_whom").alias("role"),
        pl.col("at").alias("starts"),
        pl.col("closed").alias("ends"),
        "closed",
        pl.when(pl.col("refused").is_null())
        .then(pl.lit("opened"))
        .otherwise(pl.lit("refused"))
        .alias("outcome"),
        pl.lit(True).alias("by-own-right"),
        pl.col("open-ended").fill_null(False),
    )


def _ends(ran: pl.DataFrame, closings: pl.DataFrame) -> pl.DataFrame:
    """For the line of each that ran when it was `closed`, and whether that is `open-ended`."""
    steps = pl.concat(
        [
            frame.select("line", "at", pl.col("process").fill_null(""), step=pl.lit(step, dtype=pl.Int64))
            for frame, step in ((ran, 1), (closings, -1))
        ]
    ).sort("at", "line")
    counted = pl.col("step").cum_sum().over("process")
    # The log may begin while something runs: its end is then the end of nothing that is known.
    lowest = pl.min_horizontal(counted.cum_min().over("process"), pl.lit(0, dtype=pl.Int64))
    steps = steps.with_columns(
        running=counted - lowest,
        next_step=pl.col("step").shift(-1).over("process"),
        next_at=pl.col("at").shift(-1).over("process"),
    )
    alone = (pl.col("running") == 1) & (pl.col("next_step").fill_null(-1) == -1)
    return steps.filter(pl.col("step") == 1).select(
        "line",
        pl.when(alone).then("next_at").alias("closed"),
        (~alone | pl.lit(not closings.height)).alias("open-ended"),
    )
