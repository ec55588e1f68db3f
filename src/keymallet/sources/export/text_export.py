"""`read = "text"`: text in columns of fixed width, whose `positions` the column map tells."""

from __future__ import annotations

from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.problems import fail
from keymallet.sources.export import fixed_width
from keymallet.sources.export.column_map import ColumnMap, RowMap
from keymallet.sources.export.formats import Format
from keymallet.sources.export.rows import ExportRows
from keymallet.sources.export.shaping import shaped, taken_apart


def rows_of(data: bytes, path: str, column_map: ColumnMap, row_map: RowMap) -> ExportRows:
    """The rows of one file that a part of the map asks for."""
    for name in row_map.asked:
        if name not in column_map.positions:
            hint = did_you_mean(name, column_map.positions) or 'add it: [positions] login = "1-8"'
            raise fail(f'the map gives no positions for the column "{name}"', file=path, hint=hint)
    settings = column_map.settings_of(path)
    rows = fixed_width.read_rows(
        data,
        path,
        encoding=settings.encoding,
        header_line=settings.header_line,
        positions=column_map.positions,
        wanted=row_map.asked,
        ordered_by=column_map.ordered_by,
    )
    return shaped(taken_apart(rows, row_map), row_map)


def names_of(data: bytes, path: str, column_map: ColumnMap) -> list[str]:
    """The columns that have positions."""
    return list(column_map.positions)


TEXT = Format(rows_of, names_of)
