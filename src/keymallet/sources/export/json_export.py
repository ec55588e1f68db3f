"""`read = "json"`: any export in JSON or JSON lines, through a column map whose columns are paths."""

from __future__ import annotations

from pathlib import Path

from keymallet.sources.export.column_map import ColumnMap, RowMap
from keymallet.sources.export.formats import Format, OnlyWholeError
from keymallet.sources.export.json_path import path_fault
from keymallet.sources.export.json_rows import (
    Records,
    check_read,
    is_document,
    json_data,
    lines_into,
    paths_in,
    read_records,
    read_rows,
)
from keymallet.sources.export.line_blocks import LineBlocks, beginning_of
from keymallet.sources.export.rows import ExportRows
from keymallet.sources.export.shaping import shaped


def rows_of(data: bytes, path: str, column_map: ColumnMap, row_map: RowMap) -> ExportRows:
    """The rows of one file that a part of the map asks for."""
    encoding = column_map.settings_of(path).encoding
    if not row_map.rows and not row_map.only_with:
        text = json_data(data, path, encoding)
        if not is_document(text, column_map.records):
            rows = _rows_of_lines(text, path, column_map, row_map)
            check_read(text, path, rows.refused, rows.height)
            return shaped(rows, row_map)
    records = read_records(data, path, encoding, column_map.records)
    return shaped(read_rows(records, row_map, column_map.list_separator), row_map)


def rows_of_block(data: bytes, path: str, column_map: ColumnMap, row_map: RowMap) -> ExportRows:
    """The same of some lines. Raises OnlyWholeError where none of them is a record."""
    if not row_map.rows and not row_map.only_with:
        rows = _rows_of_lines(data, path, column_map, row_map)
        is_read = bool(rows.height)
    else:
        records = Records(path)
        lines_into(data, records)
        rows = read_rows(records, row_map, column_map.list_separator)
        is_read = bool(records.records)
    if rows.refused and not is_read:
        raise OnlyWholeError
    return shaped(rows, row_map)


def _rows_of_lines(data: bytes, path: str, column_map: ColumnMap, row_map: RowMap) -> ExportRows:
    # Arrow's reader of JSON takes a while to load.
    from keymallet.sources.export.json_blocks import rows_of_lines

    return rows_of_lines(data, path, row_map, column_map.list_separator)


def blocks(path: Path, shown: str, column_map: ColumnMap, row_map: RowMap) -> LineBlocks | None:
    """A large file of JSON lines in blocks; None where it is a document."""
    beginning = beginning_of(path, column_map.settings_of(shown).encoding)
    if beginning is None or beginning.lstrip()[:1] != b"{" or column_map.records:
        return None
    return LineBlocks(path, shown)


def names_of(data: bytes, path: str, column_map: ColumnMap) -> list[str]:
    """The paths in the first records of a file."""
    return paths_in(read_records(data, path, column_map.settings_of(path).encoding, column_map.records))


JSON = Format(rows_of, names_of, path_fault, blocks, rows_of_block)
