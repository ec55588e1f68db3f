"""CSV (RFC 4180): a header, then a row a line. Members of a list are joined by ` | `."""

from __future__ import annotations

import codecs
import io
from collections.abc import Iterator

import polars as pl

from keymallet.outputs.values import OutputRows, in_text

_FORMULA = r"^[=+\-@\t\r]"


def write(rows: OutputRows) -> Iterator[bytes]:
    """The rows as CSV, part by part; every value is exactly as it was read.

    Where they are meant for a spreadsheet, a text that it would take for a formula gets an apostrophe in
    front, and the whole begins with a byte order mark, by which spreadsheets know UTF-8.
    """
    for number, part in enumerate(rows.parts):
        flat = _joined(in_text(part))
        buffer = io.BytesIO()
        if rows.spreadsheet:
            text = pl.col(pl.String)
            defused = pl.when(text.str.contains(_FORMULA)).then("'" + text).otherwise(text)
            flat = flat.with_columns(defused.name.keep())
            buffer.write(b"" if number else codecs.BOM_UTF8)
        flat.write_csv(buffer, include_header=not number, line_terminator="\r\n")
        yield buffer.getvalue()


def _joined(frame: pl.DataFrame) -> pl.DataFrame:
    """The frame with lists as text."""
    lists = [name for name, kind in frame.schema.items() if kind == pl.List(pl.String)]
    # Joining takes long even where there is nothing to join, which is how most lists of findings are.
    empty = {name for name in lists if not frame[name].list.len().sum()}
    return frame.with_columns(
        pl.when(pl.col(name).is_not_null()).then(pl.lit("")).alias(name)
        if name in empty
        else pl.col(name).list.join(" | ")
        for name in lists
    )
