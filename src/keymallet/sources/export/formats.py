"""What every format of exports has to be able to do."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from keymallet.sources.export.column_map import ColumnMap, RowMap
from keymallet.sources.export.rows import ExportRows

RowsOf = Callable[[bytes, str, ColumnMap, RowMap], ExportRows]
"""What knows a format: bytes, path, map and the part of it that is asked, to rows."""


@dataclass(frozen=True)
class Block:
    """Some records of a file, as a file of their own; a line of it stands so many lines further down."""

    data: bytes
    above: int


class OnlyWholeError(Exception):
    """That a file can only be read as a whole; it showed while it was gone through."""


class Blocks(Protocol):
    """A large file in blocks, to be gone through as often as need be.

    `size` and `digest` (BLAKE3) are of the whole, once that was read to its end.
    """

    size: int
    digest: str

    def __iter__(self) -> Iterator[Block]:
        """The blocks, in their order. Raises KeymalletError if the file cannot be read, or OnlyWholeError."""


def only_whole(path: Path, shown: str, column_map: ColumnMap, row_map: RowMap) -> Blocks | None:
    """No blocks: for formats that are read as a whole."""
    return None


@dataclass(frozen=True)
class Format:
    """How its rows are read, how its columns are called, what is wrong with the name of a column.

    `blocks_of` gives a file in blocks if it is large, None where it has to be read as a whole;
    `rows_of_block` reads one of them, and raises OnlyWholeError where that takes the others.
    """

    rows_of: RowsOf
    names_of: Callable[[bytes, str, ColumnMap], list[str]]
    header_fault: Callable[[str], str] = lambda header: ""
    blocks_of: Callable[[Path, str, ColumnMap, RowMap], Blocks | None] = only_whole
    rows_of_block: RowsOf | None = None
