"""`read = "csv"`: any CSV export of a directory, a service or a staff list, through a column map."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from keymallet.sources.export.cells import RECURRING
from keymallet.sources.export.column_map import Cell, ColumnMap, RowMap
from keymallet.sources.export.csv_blocks import CsvBlocks, blocks_of
from keymallet.sources.export.csv_rows import header_of, read_rows
from keymallet.sources.export.formats import Format
from keymallet.sources.export.instants import may_be_in_full
from keymallet.sources.export.rows import MEMBER, ExportRows
from keymallet.sources.export.shaping import shaped, taken_apart


def rows_of(data: bytes, path: str, column_map: ColumnMap, row_map: RowMap) -> ExportRows:
    """The rows of one file that a part of the map asks for."""
    # What is put together, cut out or asked about is wanted as text.
    as_text = {header for cell in row_map.cells if cell.is_made_up for header in cell.headers}
    as_text |= {*row_map.only_where, *row_map.leave_out}
    plainly = [cell for cell in row_map.cells if cell.headers and not as_text & {*cell.headers, MEMBER}]
    rows = read_rows(
        data,
        path,
        **_how_written(column_map, path),
        wanted=row_map.asked,
        repeated=_where_all(plainly, lambda cell: cell.column.kind in RECURRING) - {MEMBER},
        instants=_where_all(plainly, may_be_in_full) - {MEMBER},
    )
    return shaped(taken_apart(rows, row_map), row_map)


def names_of(data: bytes, path: str, column_map: ColumnMap) -> list[str]:
    """The names of a file's columns."""
    known = [name for maps in column_map.tables.values() for row_map in maps for name in row_map.asked]
    return header_of(
        data,
        path,
        **_how_written(column_map, path),
        expected=known,
    )


def blocks(path: Path, shown: str, column_map: ColumnMap, row_map: RowMap) -> CsvBlocks | None:
    """A large file in blocks of whole records."""
    return blocks_of(path, shown, **_how_written(column_map, shown), wanted=row_map.asked)


CSV = Format(rows_of, names_of, blocks_of=blocks)


def _how_written(column_map: ColumnMap, path: str) -> dict[str, Any]:
    """How a file is written, as the map says."""
    settings = column_map.settings_of(path)
    return {
        "encoding": settings.encoding,
        "separator": settings.separator,
        "header_line": settings.header_line,
    }


def _where_all(cells: list[Cell], holds: Callable[[Cell], bool]) -> set[str]:
    """The headers of which the same is true for every fact they are mapped to."""
    return {cell.header for cell in cells} - {cell.header for cell in cells if not holds(cell)}
