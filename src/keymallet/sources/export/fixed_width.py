"""Text in columns of fixed width: registries that are kept as card images."""

from __future__ import annotations

from collections.abc import Collection

import polars as pl
import pyarrow as pa

from keymallet.core.facts.reading import Refusal
from keymallet.sources.export.csv_rows import as_utf8, decoded
from keymallet.sources.export.rows import ExportRows
from keymallet.sources.shared.limits import refuse_endless_lines


def read_rows(
    data: bytes,
    file: str,
    *,
    encoding: str | None,
    header_line: int | None,
    positions: dict[str, tuple[int, int]],
    wanted: Collection[str],
    ordered_by: str,
) -> ExportRows:
    """The wanted columns of a file; `positions` gives for each its first letter, from 0, and its width.

    `header_line` is how many lines stand above the rows. A line with a tab in it, of which nobody can say
    how wide it is, is refused; a short one lacks its last columns. With `ordered_by`, rows that do not
    follow the one before are told of. Raises KeymalletError where the file is no text.
    """
    data = as_utf8(data, file, encoding)
    refuse_endless_lines(data, file)
    text = pl.Series("text", decoded(data, file).splitlines(), dtype=pl.String)
    lines = pl.DataFrame({"text": text}).with_row_index("line", 1).slice(header_line or 0)
    lines = lines.filter(pl.col("text").str.strip_chars() != "")
    tabs = lines.filter(pl.col("text").str.contains("\t", literal=True))
    refused = [
        Refusal(file, line, "a tab stands here: the columns are counted in letters") for line in tabs["line"]
    ]
    lines = lines.filter(~pl.col("text").str.contains("\t", literal=True))
    cut = {
        name: lines["text"].str.slice(*positions[name]).str.strip_chars()
        for name in dict.fromkeys([*wanted, *([ordered_by] if ordered_by else [])])
    }
    places = lines["line"].to_list()
    rows = ExportRows(
        file,
        [name for name in positions if name not in wanted],
        {name: _column(cut[name]) for name in wanted},
        lines.height,
        lambda records: [places[record] for record in records],
        refused=refused,
    )
    if ordered_by:
        rows.remarks += _out_of_order(cut[ordered_by], places, ordered_by, file)
    return rows


def _column(text: pl.Series) -> pa.ChunkedArray:
    return pa.chunked_array([text.set(text == "", None).to_arrow().cast(pa.string())])


def _out_of_order(keys: pl.Series, lines: list[int], name: str, file: str) -> list[str]:
    """What stands behind a greater one: whoever reads the file in order does not find it."""
    late = (keys < keys.shift(1)).fill_null(False).arg_true().to_list()
    if not late:
        return []
    first = late[0]
    rows = "1 row is" if len(late) == 1 else f"{len(late):,} rows are"
    return [
        f"{file}: {rows} out of the order of {name}, the first on line {lines[first]}:"
        f' "{keys[first]}" stands behind "{keys[first - 1]}"; a system that reads in order stops before it'
    ]
