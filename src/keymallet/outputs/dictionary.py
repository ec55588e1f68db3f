"""The dictionary of facts as rows."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import polars as pl

from keymallet.core.facts.model import Table


def dictionary_rows(tables: Iterable[Table]) -> pl.DataFrame:
    """A row for each column of these tables: its type, meaning, words and definition."""
    schema: dict[str, Any] = {
        "table": pl.String,
        "column": pl.String,
        "type": pl.String,
        "meaning": pl.String,
        "words": pl.List(pl.String),
        "definition": pl.String,
    }
    rows = [
        (
            table.name,
            column.name,
            column.kind.value,
            column.meaning,
            list(column.words),
            " ".join(column.definition.split()),
        )
        for table in tables
        for column in table.columns
    ]
    return pl.DataFrame(rows, schema=schema, orient="row")
