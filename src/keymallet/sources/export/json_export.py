"""`read = "json"`: any export in JSON or JSON lines, through a column map whose columns are paths."""

from __future__ import annotations

from keymallet.sources.export.column_map import ColumnMap, RowMap
from keymallet.sources.export.formats import Format
from keymallet.sources.export.json_path import path_fault
from keymallet.sources.export.json_rows import (
    is_document,
    json_data,
    paths_in,
    read_records,
    read_rows,
)
from keymallet.sources.export.rows import ExportRows
from keymallet.sources.export.shaping import shaped


def rows_of(data: bytes, path: str, column_map: ColumnMap, row_map: RowMap) -> ExportRows:
    """The rows of one file that a part of the map asks for."""
    encoding = column_map.settings_of(path).encoding
    if not row_map.rows and not row_map.only_with:
        text = json_data(data, path, encoding)
        if not is_document(text, column_map.records):
            # Arrow's reader of JSON takes a while to load.
            from keymallet.sources.export.json_blocks import rows_of_lines

            return shaped(rows_of_lines(text, path, row_map, column_map.list_separator), row_map)
    records = read_records(data, path, encoding, column_map.records)
    return shaped(read_rows(records, row_map, column_map.list_separator), row_map)


def names_of(data: bytes, path: str, column_map: ColumnMap) -> list[str]:
    """The paths in the first records of a file."""
    return paths_in(read_records(data, path, column_map.settings_of(path).encoding, column_map.records))


JSON = Format(rows_of, names_of, path_fault)
