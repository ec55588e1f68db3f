"""`read = "json"`: any export in JSON or JSON lines, through a column map whose columns are paths."""

from __future__ import annotations

from keymallet.core.facts.reading import Reading
from keymallet.sources.export.column_map import ColumnMap, RowMap
from keymallet.sources.export.json_path import path_fault
from keymallet.sources.export.json_rows import paths_in, read_records, read_rows
from keymallet.sources.export.reading import Format, read_export
from keymallet.sources.export.rows import ExportRows
from keymallet.sources.export.shaping import shaped
from keymallet.sources.request import Request
from keymallet.sources.sections import ExportSection


def read(section: ExportSection, request: Request) -> list[Reading]:
    """Read the files of one export. Raises KeymalletError where the map or a whole file cannot be read."""
    return read_export(section, request, JSON)


def rows_of(data: bytes, path: str, column_map: ColumnMap, row_map: RowMap) -> ExportRows:
    """The rows of one file that a part of the map asks for."""
    records = read_records(data, path, column_map.settings_of(path).encoding, column_map.records)
    return shaped(read_rows(records, row_map, column_map.list_separator), row_map)


def names_of(data: bytes, path: str, column_map: ColumnMap) -> list[str]:
    """The paths in the first records of a file."""
    return paths_in(read_records(data, path, column_map.settings_of(path).encoding, column_map.records))


JSON = Format(rows_of, names_of, path_fault)
