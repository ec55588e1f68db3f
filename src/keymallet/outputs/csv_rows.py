"""CSV (RFC 4180): a header, then a row a line. Members of a list are joined by ` | `."""

from __future__ import annotations

import codecs

import polars as pl

from keymallet.outputs.values import OutputRows, in_text

_FORMULA = r"^[=+\-@\t\r]"


def write(rows: OutputRows) -> bytes:
    """The rows as CSV; every value is exactly as it was read.

    Where they are meant for a spreadsheet, a text that it would take for a formula gets an apostrophe in
    front, and the whole begins with a byte order mark, by which spreadsheets know UTF-8.
    """
    flat = in_text(rows.frame).with_columns(pl.col(pl.List(pl.String)).list.join(" | "))
    if rows.spreadsheet:
        text = pl.col(pl.String)
        defused = pl.when(text.str.contains(_FORMULA)).then("'" + text).otherwise(text)
        flat = flat.with_columns(defused.name.keep())
    written = flat.write_csv(line_terminator="\r\n").encode()
    return codecs.BOM_UTF8 + written if rows.spreadsheet else written
