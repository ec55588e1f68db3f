"""CSV (RFC 4180): a header, then a row a line. Members of a list are joined by ` | `."""

from __future__ import annotations

import codecs
import io

import polars as pl

from keymallet.outputs.values import Around, OutputRows, in_text

_FORMULA = r"^[=+\-@\t\r]"


def around(columns: pl.DataFrame, rows: OutputRows) -> Around:
    """The header in front; for a spreadsheet, before it a byte order mark, by which it knows UTF-8."""
    buffer = io.BytesIO(codecs.BOM_UTF8 if rows.spreadsheet else b"")
    buffer.seek(0, io.SEEK_END)
    _joined(in_text(columns.clear())).write_csv(buffer, line_terminator="\r\n")
    return Around(buffer.getvalue())


def encode(part: pl.DataFrame, *, spreadsheet: bool) -> bytes:
    """Some rows as CSV; every value is exactly as it was read.

    For a spreadsheet, a text that it would take for a formula gets an apostrophe in front.
    """
    flat = _joined(in_text(part))
    if spreadsheet:
        text = pl.col(pl.String)
        defused = pl.when(text.str.contains(_FORMULA)).then("'" + text).otherwise(text)
        flat = flat.with_columns(defused.name.keep())
    buffer = io.BytesIO()
    flat.write_csv(buffer, include_header=False, line_terminator="\r\n")
    return buffer.getvalue()


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
