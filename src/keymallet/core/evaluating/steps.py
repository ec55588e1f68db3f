"""Step functions of time as frames: ROW, AT (the instant from which it holds) and VALUE.

Ordered by row and instant; the first entry of a row is at the start of the stretch that is looked at.
Rows that do not change are in none.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, datetime

import polars as pl

from keymallet.core.facts.evidence import INSTANT
from keymallet.core.language.lowering import AT

ROW, VALUE = "row", "value"
BEGINNING = datetime(1900, 1, 1, tzinfo=UTC)
"""Before every fact there is."""
END = datetime(9998, 12, 31, tzinfo=UTC)


def united(frames: Iterable[pl.DataFrame]) -> pl.DataFrame:
    """Rows and instants of several frames, each once, in order."""
    schema = pl.DataFrame(schema={ROW: pl.UInt32, AT: INSTANT})
    return pl.concat([schema, *frames]).unique().sort(ROW, AT)


def no_steps() -> pl.DataFrame:
    """No steps at all."""
    return pl.DataFrame(schema={ROW: pl.UInt32, AT: INSTANT, VALUE: pl.Null})


def only_changes(points: pl.DataFrame) -> pl.DataFrame:
    """Drop what changes nothing, then rows of which only the opening is left."""
    same_row = pl.col(ROW) == pl.col(ROW).shift()
    changed = pl.col(VALUE).ne_missing(pl.col(VALUE).shift())
    kept = points.filter(~same_row.fill_null(False) | changed)
    alone = (pl.col(ROW) != pl.col(ROW).shift()).fill_null(True)
    alone &= (pl.col(ROW) != pl.col(ROW).shift(-1)).fill_null(True)
    return kept.filter(~alone)


def along(points: pl.DataFrame, steps: pl.DataFrame, constant: pl.Series) -> pl.Series:
    """The value that holds at each point; `constant` where the row has no steps."""
    marks = steps.select(ROW, AT).with_row_index("step").with_columns(pl.lit(None, pl.UInt32).alias("point"))
    asked = points.select(ROW, AT).with_columns(pl.lit(None, pl.UInt32).alias("step"))
    asked = asked.with_row_index("point").select("step", ROW, AT, "point")
    merged = pl.concat([marks, asked]).sort(ROW, AT, "point", nulls_last=False)
    merged = merged.with_columns(pl.col("step").forward_fill()).drop_nulls("point")
    values = pl.DataFrame(
        {
            "own": steps[ROW].gather(merged["step"]) == merged[ROW],
            "value": steps[VALUE].gather(merged["step"]).cast(constant.dtype),
            "constant": constant,
        }
    )
    shown = pl.when(pl.col("own").fill_null(False)).then("value").otherwise("constant")
    return values.select(shown.alias(constant.name)).to_series()
