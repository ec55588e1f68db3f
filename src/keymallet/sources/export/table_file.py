"""One file of an export to one fact table, with a note of every record and cell that was not read."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import cast

import polars as pl

from keymallet.core.base.listing import how_many
from keymallet.core.base.secrecy import quoted
from keymallet.core.facts.declaration import ACCOUNT, PERSON
from keymallet.core.facts.evidence import NOTHING_KNOWN, UNREAD, with_unread
from keymallet.core.facts.model import Table
from keymallet.core.facts.reading import MOST_DETAILS, Reading, Refusal, TableIntake
from keymallet.sources.export.cells import Converted, constant, convert
from keymallet.sources.export.column_map import Cell, ColumnMap, RowMap
from keymallet.sources.export.formats import RowsOf
from keymallet.sources.export.rows import ExportRows
from keymallet.sources.request import Request

_NUMBER = "row in the file"


@dataclass
class TableFile:
    """One file, read as one table by one part of the map; `lines` are those of its rows, if they are kept.

    `as_of` are the instants at which its rows were true, where a column tells. Rows that stand twice, or
    without their key, are kept where it is to be read `as_they_stand`.
    """

    row_map: RowMap
    path: str
    frame: pl.DataFrame = field(default_factory=pl.DataFrame)
    intake: TableIntake = field(default_factory=TableIntake)
    remarks: list[str] = field(default_factory=list)
    unused: list[str] = field(default_factory=list)
    keep_lines: bool = False
    as_they_stand: bool = False
    lines: list[int] = field(default_factory=list)
    as_of: pl.Series | None = None

    @property
    def table(self) -> Table:
        """The fact table it fills."""
        return self.row_map.table

    @property
    def supply(self) -> dict[str, str]:
        """Where in the file each fact stands, by the name of its column."""
        return {
            cell.column.name: f'{self.path}, "{cell.header}"'
            if cell.header
            else "fixed value in the column map"
            for cell in self.row_map.cells
        }

    def read(self, column_map: ColumnMap, request: Request, reading: Reading, rows_of: RowsOf) -> None:
        """Read the file. Raises KeymalletError if it cannot be read as a whole."""
        rows = rows_of(request.bytes_of(self.path, reading), self.path, column_map, self.row_map)
        self.remarks += rows.remarks
        for refusal in rows.refused:
            self.intake.refuse(refusal)
        self.unused = rows.unused
        if not rows.height and not rows.refused:
            reading.empty_files.append(f"{self.path} holds no row of {self.table.name}")
        self.frame = self._converted(rows, request)
        required = self.table.required
        if not self.as_they_stand:
            self._refuse(self.frame[required].is_null(), f"no {required}", rows)
        keys = self.frame[required]
        once = self.table in (ACCOUNT, PERSON) and not self.as_they_stand
        # Equal names have equal hashes: as many hashes as rows means that no name stands twice.
        if once and keys.hash().n_unique() < self.frame.height:
            self._refuse(~keys.is_first_distinct(), f"this {required} stood on an earlier line", rows)
        self.intake.read += self._read_in_full()
        if self.keep_lines:
            numbered = _NUMBER in self.frame.columns
            self.lines = rows.lines(self.frame[_NUMBER].to_list() if numbered else range(self.frame.height))
        self.frame = self.frame.drop(_NUMBER, strict=False)

    def _read_in_full(self) -> int:
        """How many rows were really read: not those that stand for not knowing of any."""
        if UNREAD not in self.frame.columns:
            return self.frame.height
        nothing = self.frame[UNREAD].list.contains(NOTHING_KNOWN).fill_null(False)
        return self.frame.height - int(nothing.sum())

    def _converted(self, rows: ExportRows, request: Request) -> pl.DataFrame:
        """All columns of facts, and where one could not be read, the UNREAD column."""
        mapped = [cell for cell in self.row_map.cells if cell.header]
        if self.row_map.as_of:
            mapped.append(self.row_map.as_of)
        if rows.list_mark:
            mapped = [cell.divided_by(rows.list_mark) for cell in mapped]
        converted = request.workers.map(lambda cell: convert(cell, rows.columns[cell.header]), mapped)
        columns = {
            cell.column.name: constant(cell, rows.height) for cell in self.row_map.cells if not cell.header
        }
        unread: dict[str, pl.Series] = {}
        for cell, column in zip(mapped, converted, strict=True):
            columns[cell.column.name] = column.facts
            if column.remark:
                self.remarks.append(f"{self.path}: {column.remark}")
            if column.unread is not None and column.unread.any():
                unread[cell.column.name] = column.unread
                self._note_unreadable(cell, column, rows)
        if self.row_map.as_of:
            self.as_of = columns.pop(self.row_map.as_of.column.name).drop_nulls()
            unread.pop(self.row_map.as_of.column.name, None)
        names = [cell.column.name for cell in self.row_map.cells]
        frame = pl.DataFrame([columns[name].alias(name) for name in names])
        if rows.nothing_known is not None:
            known = [
                pl.when(~rows.nothing_known).then(name).alias(name) for name in names if name != "account"
            ]
            frame = frame.with_columns(known)
            unread[NOTHING_KNOWN] = rows.nothing_known
        return with_unread(frame, unread)

    def _note_unreadable(self, cell: Cell, converted: Converted, rows: ExportRows) -> None:
        unread, written = cast(pl.Series, converted.unread), cast(pl.Series, converted.written)
        if cell.unknown or cell.own.empty == "unknown":
            # What the map itself calls unknown was understood: it is unknown, and no cell to be mended.
            folded = written.cast(pl.String).str.strip_chars().str.to_lowercase()
            said = unread & (
                folded.is_in(list(cell.unknown)).fill_null(False) | folded.is_null() | (folded == "")
            )
            if said.any():
                cells = how_many(int(said.sum()), "cell says", "cells say")
                self.remarks.append(f'{self.path}: {cells} of "{cell.header}" that it is not known')
                unread = unread & ~said
        places = unread.arg_true()
        first = places.head(MOST_DETAILS).to_list()
        details = (
            Refusal(
                self.path,
                line,
                f"{quoted(value, secret=cell.column.secret)}: {converted.reasons(value)}",
                cell.header,
            )
            for line, value in zip(rows.lines(first), written.gather(first).to_list(), strict=True)
        )
        self.intake.cannot_read(len(places), details)

    def _refuse(self, condition: pl.Series, reason: str, rows: ExportRows) -> None:
        """Leave out the rows for which the condition holds, with a note on each."""
        if not condition.any():
            return
        if _NUMBER not in self.frame.columns:
            self.frame = self.frame.with_columns(pl.int_range(pl.len(), dtype=pl.UInt32).alias(_NUMBER))
        places = self.frame.filter(condition)[_NUMBER].to_list()
        for line in rows.lines(places[:MOST_DETAILS]):
            self.intake.refuse(Refusal(self.path, line, reason))
        self.intake.refused += max(len(places) - MOST_DETAILS, 0)
        self.frame = self.frame.filter(~condition)
