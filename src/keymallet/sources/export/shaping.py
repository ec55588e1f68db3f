"""What a map does with the rows of a file before cells are read: columns put together, rows left out."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import replace
from pathlib import PurePath

import polars as pl
import pyarrow as pa
from msgspec import structs

from keymallet.core.base.problems import fail
from keymallet.sources.export.column_map import Cell, RowMap
from keymallet.sources.export.map_shapes import FILE_NAME
from keymallet.sources.export.rows import ExportRows, series_of

NUMBER = "{n}"
"""In the name of a column: any number, so that `Key {n} created` is a row for each."""


def taken_apart(rows: ExportRows, row_map: RowMap) -> ExportRows:
    """The rows of a table of text: those in which something stands, and a row for each member of a list."""
    if row_map.only_with:
        rows = rows.only_with(row_map.only_with, row_map.stands)
    return rows.split(row_map.rows, row_map.separator, row_map.is_none) if row_map.rows else rows


def shaped(rows: ExportRows, row_map: RowMap) -> ExportRows:
    """The rows that the map wants, with the columns that it puts together of others."""
    for header, words in row_map.only_where.items():
        rows = rows.where(_folded(rows, header).is_in(list(words)))
    for header, words in row_map.leave_out.items():
        rows = rows.where(~_folded(rows, header).is_in(list(words)))
    for cell in row_map.cells:
        if cell.headers and cell.header not in rows.columns:
            rows.columns[cell.header] = _put_together(rows, cell)
    return rows


def _folded(rows: ExportRows, header: str) -> pl.Series:
    """The words of a column as conditions compare them; nothing is an empty word."""
    return series_of(rows.columns[header]).cast(pl.String).str.strip_chars().str.to_lowercase().fill_null("")


def _put_together(rows: ExportRows, cell: Cell) -> pa.ChunkedArray:
    """What stands in several columns, one after the other; what is empty is passed over."""
    stem = PurePath(rows.file).stem
    parts = {
        str(place): pl.Series([stem]).new_from_index(0, rows.height)
        if header == FILE_NAME
        else series_of(rows.columns[header]).cast(pl.String)
        for place, header in enumerate(cell.headers)
    }
    joined = pl.DataFrame(parts).select(pl.concat_str(pl.all(), separator=cell.own.join, ignore_nulls=True))
    text = joined.to_series()
    return pa.chunked_array([text.set(text == "", None).to_arrow().cast(pa.string())])


def is_for(row_map: RowMap, names: Iterable[str]) -> bool:
    """Whether a part of a map is for a file with these columns."""
    return set(row_map.if_columns) <= set(names)


def numbered(row_map: RowMap, names: list[str], path: str) -> list[RowMap]:
    """A part whose columns are numbered, once for each number that the file has; else the part itself.

    Raises KeymalletError where no column of the file has a name like that.
    """
    templates = [name for name in row_map.asked if NUMBER in name]
    if not templates:
        return [row_map]
    numbers: dict[str, None] = {}
    for template in templates:
        like = re.compile(re.escape(template).replace(re.escape(NUMBER), r"(\d+)"))
        numbers |= {match[1]: None for name in names if (match := like.fullmatch(name))}
    if not numbers:
        hint = f"the columns are: {', '.join(names[:12])}{' …' if len(names) > 12 else ''}"
        raise fail(f'no column is called like "{templates[0]}"', file=path, line=1, hint=hint)
    return [_of_number(row_map, number, names) for number in sorted(numbers, key=int)]


def _of_number(row_map: RowMap, number: str, names: list[str]) -> RowMap:
    """The part for one number: what the file has of it, and only rows in which the first of it stands."""

    def filled(name: str) -> str:
        return name.replace(NUMBER, number)

    cells = []
    marked = row_map.only_with
    for cell in row_map.cells:
        own = [filled(header) for header in cell.headers]
        if any(NUMBER in header for header in cell.headers):
            if not set(own) <= set(names):
                continue
            marked = marked or cell.headers[0]
            cell = replace(cell, own=structs.replace(cell.own, from_=own if len(own) > 1 else own[0]))
        cells.append(cell)
    return replace(
        row_map,
        cells=cells,
        rows=filled(row_map.rows),
        only_with=filled(marked),
        only_where={filled(name): words for name, words in row_map.only_where.items()},
        leave_out={filled(name): words for name, words in row_map.leave_out.items()},
    )
