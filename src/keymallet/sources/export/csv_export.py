"""`read = "csv"`: any CSV export of a directory, a service or a staff list, through a column map."""

from __future__ import annotations

from collections.abc import Callable

from keymallet.core.facts.reading import Reading
from keymallet.sources.export.cells import RECURRING
from keymallet.sources.export.column_map import Cell, ColumnMap, RowMap
from keymallet.sources.export.csv_rows import read_rows
from keymallet.sources.export.instants import may_be_in_full
from keymallet.sources.export.reading import read_export
from keymallet.sources.export.rows import MEMBER, ExportRows
from keymallet.sources.request import Request
from keymallet.sources.sections import ExportSection


def read(section: ExportSection, request: Request) -> list[Reading]:
    """Read the files of one export. Raises KeymalletError where the map or a whole file cannot be read."""
    return read_export(section, request, rows_of)


def rows_of(data: bytes, path: str, column_map: ColumnMap, row_map: RowMap) -> ExportRows:
    """The rows of one file that a part of the map asks for."""
    mapped = [cell for cell in row_map.cells if cell.header and cell.header != MEMBER]
    asked = [cell.header for cell in mapped] + [name for name in (row_map.rows, row_map.only_with) if name]
    rows = read_rows(
        data,
        path,
        encoding=column_map.encoding,
        separator=column_map.separator,
        wanted=list(dict.fromkeys(asked)),
        repeated=_where_all(mapped, lambda cell: cell.column.kind in RECURRING),
        instants=_where_all(mapped, may_be_in_full),
    )
    if row_map.only_with:
        rows = rows.only_with(row_map.only_with, row_map.stands)
    return rows.split(row_map.rows, row_map.separator, row_map.is_none) if row_map.rows else rows


def _where_all(cells: list[Cell], holds: Callable[[Cell], bool]) -> set[str]:
    """The headers of which the same is true for every fact they are mapped to."""
    return {cell.header for cell in cells} - {cell.header for cell in cells if not holds(cell)}
