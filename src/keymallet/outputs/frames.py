"""Any frame of rows as CSV, JSON and JSON lines; findings, picked accounts and plans alike.

Instants are written as RFC 3339 does, in UTC and to the microsecond; lengths of time as ISO 8601
does (`P90DT8H`). In CSV lists are joined by " | ".
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import msgspec
import polars as pl

from keymallet.core.facts.evidence import INSTANT

_FORMULA = r"^[=+\-@\t\r]"


def frame_csv(frame: pl.DataFrame, *, spreadsheet: bool = False) -> bytes:
    """RFC 4180 CSV with a header.

    With `spreadsheet`, a text that a spreadsheet would take for a formula gets an apostrophe in
    front; without, every value is exactly as it was read.
    """
    flat = written(frame).with_columns(pl.col(pl.List(pl.String)).list.join(" | "))
    if spreadsheet:
        text = pl.col(pl.String)
        flat = flat.with_columns(
            pl.when(text.str.contains(_FORMULA)).then("'" + text).otherwise(text).name.keep()
        )
    return flat.write_csv(line_terminator="\r\n").encode()


def frame_json(head: dict[str, Any], name: str, frame: pl.DataFrame) -> bytes:
    """One object: the head, and under `name` the list of rows."""
    start = msgspec.json.encode(head)
    comma = b"," if head else b""
    return (
        start[:-1] + comma + msgspec.json.encode(name) + b":" + written(frame).write_json().encode() + b"}\n"
    )


def frame_json_lines(frame: pl.DataFrame) -> bytes:
    """One row a line."""
    return written(frame).write_ndjson().encode()


def written(frame: pl.DataFrame) -> pl.DataFrame:
    """Instants and lengths of time as text."""
    return frame.with_columns(
        pl.col(INSTANT).dt.strftime("%Y-%m-%dT%H:%M:%S%.6fZ"),
        pl.col(pl.Duration("us")).dt.to_string("iso"),
    )


Write = Callable[[pl.DataFrame, dict[str, Any], str, bool], bytes]
"""From rows, what JSON says in front of them, what it calls them, and whether a spreadsheet is meant."""

FORMATS: dict[str, Write] = {
    "csv": lambda frame, head, name, spreadsheet: frame_csv(frame, spreadsheet=spreadsheet),
    "json": lambda frame, head, name, spreadsheet: frame_json(head, name, frame),
    "jsonl": lambda frame, head, name, spreadsheet: frame_json_lines(frame),
}
