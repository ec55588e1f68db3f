"""One JSON object: what was asked and how, then the rows as a list."""

from __future__ import annotations

import io

import msgspec
import polars as pl

from keymallet.outputs.values import Around, OutputRows, in_text


def around(columns: pl.DataFrame, rows: OutputRows) -> Around:
    """The object: the head's own names, and the list of rows under theirs."""
    head = msgspec.json.encode(rows.head)
    comma = b"," if rows.head else b""
    name = msgspec.json.encode(rows.name)
    return Around(head[:-1] + comma + name + b":[", b",", b"]}\n")


def encode(part: pl.DataFrame, *, spreadsheet: bool) -> bytes:
    """Members of the list, with commas between them."""
    buffer = io.BytesIO()
    in_text(part).write_json(buffer)
    return buffer.getvalue()[1:-1]
