"""What every format of exports has to be able to do."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from keymallet.sources.export.column_map import ColumnMap, RowMap
from keymallet.sources.export.rows import ExportRows

RowsOf = Callable[[bytes, str, ColumnMap, RowMap], ExportRows]
"""What knows a format: bytes, path, map and the part of it that is asked, to rows."""


@dataclass(frozen=True)
class Format:
    """How its rows are read, how its columns are called, what is wrong with the name of a column."""

    rows_of: RowsOf
    names_of: Callable[[bytes, str, ColumnMap], list[str]]
    header_fault: Callable[[str], str] = lambda header: ""
