"""Reasons for machines: of each row the list of them, each a template with its arguments, all as text.

Instants are written as RFC 3339 does, lengths of time as ISO 8601 does, lists as their members behind commas.
"""

from __future__ import annotations

import polars as pl

from keymallet.core.explaining.reason_templates import ARGUMENTS
from keymallet.core.explaining.reasons import Reason

REASON = pl.Struct({name: pl.List(pl.String) if name == "rows" else pl.String() for name in ARGUMENTS})
REASONS = pl.List(REASON)


def reason_rows(found: list[Reason], height: int) -> pl.Series:
    """The reasons of each of these rows; an empty list where there is none."""
    if not found:
        return pl.Series("reasons", [[]], dtype=REASONS).new_from_index(0, height)
    columns = [_struct(reason).alias(str(number)) for number, reason in enumerate(found)]
    lists = pl.concat_list(pl.all()).list.drop_nulls()
    return pl.DataFrame(columns).select(lists.alias("reasons")).to_series().cast(REASONS)


def _struct(reason: Reason) -> pl.Series:
    told = {"template": reason.template, **reason.arguments}
    series: list[pl.Series] = []
    constant: list[pl.Expr] = []
    for name, kind in REASON.to_schema().items():
        value = told.get(name)
        if isinstance(value, pl.Series):
            series.append((value if name == "rows" else _as_text(value)).alias(name))
        else:
            constant.append(pl.lit(value or None, dtype=kind).alias(name))
    frame = pl.DataFrame([*series, reason.where.alias("where")]).with_columns(constant)
    said = pl.when("where").then(pl.struct(pl.col(name) for name in REASON.to_schema()))
    return frame.select(said.alias("=")).to_series()


def _as_text(value: pl.Series) -> pl.Series:
    if isinstance(value.dtype, pl.Datetime):
        return value.dt.strftime("%Y-%m-%dT%H:%M:%S%.6fZ")
    if isinstance(value.dtype, pl.Duration):
        return value.to_frame("v").select(pl.col("v").dt.to_string("iso")).to_series()
    if isinstance(value.dtype, pl.List):
        return value.list.eval(pl.element().cast(pl.String)).list.join(", ")
    return value.cast(pl.String)
