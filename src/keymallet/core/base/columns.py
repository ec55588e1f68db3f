"""Small operations on whole columns that several rooms need."""

from __future__ import annotations

import polars as pl


def only_where(condition: pl.Series, values: pl.Series) -> pl.Series:
    """The values where the condition is true; null where it is false or not known. Of one length each."""
    frame = pl.DataFrame({"if": condition, "then": values})
    return frame.select(pl.when("if").then("then")).to_series()
