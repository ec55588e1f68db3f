"""JSON lines: each row an object on a line of its own."""

from __future__ import annotations

import io

import polars as pl

from keymallet.outputs.values import Around, OutputRows, in_text


def around(columns: pl.DataFrame, rows: OutputRows) -> Around:
    """Nothing: a line stands for itself."""
    return Around()


def encode(part: pl.DataFrame, *, spreadsheet: bool) -> bytes:
    """One object a line."""
    buffer = io.BytesIO()
    in_text(part).write_ndjson(buffer)
    return buffer.getvalue()
