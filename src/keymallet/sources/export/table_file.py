"""One file of an export to one fact table, with a note of every record and cell that was not read."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field
from typing import cast

import polars as pl

from keymallet.core.base.listing import how_many
from keymallet.core.base.problems import fail
from keymallet.core.base.secrecy import quoted
from keymallet.core.facts.declaration import ACCOUNT, PERSON
from keymallet.core.facts.evidence import NOTHING_KNOWN, UNREAD, with_unread
from keymallet.core.facts.model import Table
from keymallet.core.facts.reading import MOST_DETAILS, Reading, Refusal, TableIntake
from keymallet.engines.spool import Spooled
from keymallet.sources.export.cells import Converted, constant, convert
from keymallet.sources.export.column_map import Cell, ColumnMap, RowMap
from keymallet.sources.export.csv_rows import further_down
from keymallet.sources.export.formats import Block, Blocks, Format, OnlyWholeError, RowsOf
from keymallet.sources.export.rows import ExportRows
from keymallet.sources.request import Request

_NUMBER = "row in the file"
_OUTSIDE, _NOT_KNOWN, _SILENT = "outside", "not known", "silent"
_IF_NONE = 'missing = "none" in the map says that they have none'


@dataclass
class TableFile:
    """One file, read as one table by one part of the map; `lines` are those of its rows, if they are kept.

    `as_of` are the instants at which its rows were true, where a column tells. Rows that stand twice, or
    without their key, are kept where it is to be read `as_they_stand`. Of a file that was read in blocks, the
    rows are `spooled` and `frame` has none.
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
    spooled: Spooled | None = None
    _counted: Counter[tuple[str, str]] = field(default_factory=Counter)

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
        self._take(rows, request)
        required = self.table.required
        keys = self.frame[required]
        # Equal names have equal hashes: as many hashes as rows means that no name stands twice.
        if self.names_stand_once and keys.hash().n_unique() < self.frame.height:
            self._refuse(~keys.is_first_distinct(), self._stood_before, rows)
        self._remark_what_was_counted(reading, is_empty=not rows.height and not rows.refused)
        self.intake.read += self._read_in_full()
        if self.keep_lines:
            numbered = _NUMBER in self.frame.columns
            self.lines = rows.lines(self.frame[_NUMBER].to_list() if numbered else range(self.frame.height))
        self.frame = self.frame.drop(_NUMBER, strict=False)

    def read_in_blocks(
        self, blocks: Blocks, column_map: ColumnMap, request: Request, reading: Reading, form: Format
    ) -> None:
        """Read the file block by block, its rows into the spool. Raises KeymalletError as `read`."""
        try:
            self._read_blocks(blocks, column_map, request, reading, form)
        except OnlyWholeError:
            if self.spooled is not None:
                self.spooled.let_go()
            self.spooled, self.as_of = None, None
            self.intake, self.remarks, self._counted = TableIntake(), [], Counter()
            self.read(column_map, request, reading, form.rows_of)

    def _read_blocks(
        self, blocks: Blocks, column_map: ColumnMap, request: Request, reading: Reading, form: Format
    ) -> None:
        assert request.spool is not None
        self.spooled = request.spool.table()
        required = self.table.required
        hashes = []
        dated = []
        unused: dict[str, None] = {}
        is_empty = True
        for block in blocks:
            rows = self._rows_of(block, column_map, form)
            unused |= dict.fromkeys(rows.unused)
            self._take(rows, request)
            is_empty = is_empty and not rows.height and not rows.refused
            if self.as_of is not None and len(self.as_of):
                dated.append(pl.Series([self.as_of.min(), self.as_of.max()], dtype=self.as_of.dtype))
            self.intake.read += self._read_in_full()
            hashes.append(self.frame[required].hash())
            self.spooled.add(self.frame.drop(_NUMBER, strict=False))
        self.unused = list(unused)
        if self.as_of is not None:
            self.as_of = pl.concat(dated) if dated else self.as_of.clear()
        request.note_digest(self.path, reading, blocks.size, blocks.digest)
        if self.names_stand_once:
            again = pl.concat(hashes)
            again = again.filter(again.is_duplicated()).unique()
            if len(again):
                self._refuse_repeated(again, blocks, column_map, request, form)
        self._remark_what_was_counted(reading, is_empty=is_empty)
        self.frame = pl.DataFrame(schema=self.spooled.kinds)

    def _rows_of(self, block: Block, column_map: ColumnMap, form: Format) -> ExportRows:
        read = form.rows_of_block or form.rows_of
        return further_down(lambda: read(block.data, self.path, column_map, self.row_map), block.above)

    def _refuse_repeated(
        self, again: pl.Series, blocks: Blocks, column_map: ColumnMap, request: Request, form: Format
    ) -> None:
        """Refuse the rows whose key stood on an earlier line, by the hashes of keys that stand again."""
        assert self.spooled is not None
        changed = fail("the file was changed while it was read", file=self.path, hint="read it again")
        digest = blocks.digest
        required = self.table.required
        first = pl.DataFrame(schema={required: pl.String})
        kept = self.spooled.parts([required])
        for number, (block, part) in enumerate(zip(blocks, kept, strict=False)):
            keys = part[required]
            there = keys.hash().is_in(again.implode())
            if not there.any():
                continue
            seen = keys.is_in(first[required].implode()) | (there & ~keys.is_first_distinct())
            first = pl.concat([first, keys.filter(there & ~seen).unique().to_frame()])
            if not seen.any():
                continue
            # On which lines they stand, only the block tells; what else is wrong there was noted before.
            rows = self._rows_of(block, column_map, form)
            once_more = TableFile(self.row_map, self.path)
            once_more._take(rows, request)
            once_more.intake = self.intake
            height = once_more.frame.height
            if height != part.height:
                raise changed
            once_more._refuse(seen, self._stood_before, rows)
            self.intake.read -= height - once_more.frame.height
            self.spooled.replace(number, once_more.frame.drop(_NUMBER, strict=False))
        if blocks.digest != digest:
            raise changed

    @property
    def names_stand_once(self) -> bool:
        """Whether a key may not stand on two of its rows."""
        return self.table in (ACCOUNT, PERSON) and not self.as_they_stand

    @property
    def _stood_before(self) -> str:
        return f"this {self.table.required} stood on an earlier line"

    def _take(self, rows: ExportRows, request: Request) -> None:
        """Make facts of some rows, with notes on what is not read of them."""
        self.remarks += [remark for remark in rows.remarks if remark not in self.remarks]
        for refusal in rows.refused:
            self.intake.refuse(refusal)
        self.unused = rows.unused
        if rows.silent:
            self._counted[self.row_map.rows, _SILENT] += rows.silent
        self.frame = self._converted(rows, request)
        required = self.table.required
        if not self.as_they_stand:
            self._refuse(self.frame[required].is_null(), f"no {required}", rows)

    def _remark_what_was_counted(self, reading: Reading, *, is_empty: bool) -> None:
        for (header, what), number in self._counted.items():
            if what == _SILENT:
                remark = f'{number:,} records do not mention "{header}": taken as not known; {_IF_NONE}'
            elif what == _OUTSIDE:
                remark = f'{number:,} of "{header}" lie outside 1970 to 9999: read as none'
            else:
                cells = how_many(number, "cell says", "cells say")
                remark = f'{cells} of "{header}" that it is not known'
            self.remarks.append(f"{self.path}: {remark}")
        if is_empty:
            reading.empty_files.append(f"{self.path} holds no row of {self.table.name}")

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
            if column.outside:
                self._counted[cell.header, _OUTSIDE] += column.outside
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
                self._counted[cell.header, _NOT_KNOWN] += int(said.sum())
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
