"""`read = "csv"`: any CSV export of a directory or service, through a column map."""

from __future__ import annotations

from collections import Counter

import msgspec
import polars as pl

from keymallet.core import facts
from keymallet.core.evidence import with_unread
from keymallet.core.facts import Table
from keymallet.core.problems import fail
from keymallet.core.reading import MOST_DETAILS, Reading, Refusal, TableIntake
from keymallet.sources.cells import RECURRING, Converted, constant, convert
from keymallet.sources.column_map import Cell, ColumnMap, read_column_map
from keymallet.sources.csv_rows import Rows, read_rows
from keymallet.sources.request import Request, utf8_text

NO_SUCH_THING = "the system has no such thing"


class CsvSection(msgspec.Struct, rename="kebab", frozen=True):
    """The source's section of the estate file."""

    read: str
    map: str
    files: dict[str, str | list[str]]
    stale_after: str = ""


def read(section: CsvSection, request: Request) -> list[Reading]:
    """Read the files of one export. Raises KeymalletError where the map or a whole file cannot be read."""
    reading = Reading(request.name)
    column_map = _column_map(section, request, reading)
    _check_files(section, column_map)
    for name, cells in column_map.tables.items():
        if name not in section.files:
            continue
        given = section.files[name]
        paths = [given] if isinstance(given, str) else given
        parts = [_read_table(facts.TABLES[name], cells, path, column_map, request, reading) for path in paths]
        frame = pl.concat(parts, how="diagonal") if len(parts) > 1 else parts[0]
        for absent in column_map.absent[name]:
            reading.supply[name][absent] = NO_SUCH_THING
        reading.tables[name] = frame
    for name in column_map.absent_tables:
        reading.supply[name] = dict.fromkeys(facts.TABLES[name].names, NO_SUCH_THING)
    _refer_to_accounts(reading, column_map)
    return [reading]


def _column_map(section: CsvSection, request: Request, reading: Reading) -> ColumnMap:
    text = utf8_text(request.bytes_of(section.map, reading), section.map)
    return read_column_map(text, section.map, request.clock)


def _check_files(section: CsvSection, column_map: ColumnMap) -> None:
    unmapped = section.files.keys() - column_map.tables.keys()
    if unmapped:
        names = ", ".join(sorted(unmapped))
        hint = f"add [{sorted(unmapped)[0]}.columns] to it, or take the file out of the estate"
        raise fail(f"the map says nothing about the table {names}", file=section.map, hint=hint)
    if "account" not in section.files:
        raise fail(
            "no file of accounts is named", file=section.map, hint='files = { account = "…" } in the estate'
        )


def _read_table(
    table: Table, cells: list[Cell], path: str, column_map: ColumnMap, request: Request, reading: Reading
) -> pl.DataFrame:
    mapped = [cell for cell in cells if cell.header]
    rows = read_rows(
        request.bytes_of(path, reading),
        path,
        encoding=column_map.encoding,
        separator=column_map.separator,
        wanted=list(dict.fromkeys(cell.header for cell in mapped)),
        repeated={cell.header for cell in mapped if cell.column.kind in RECURRING},
    )
    intake = reading.table_intake(table.name)
    for refusal in rows.refused:
        intake.refuse(refusal)
    frame = _converted(cells, rows, intake, reading, path)
    supply = reading.supply.setdefault(table.name, {})
    supply.update(
        {cell.column.name: f'{path}, "{cell.header}"' if cell.header else "said in the map" for cell in cells}
    )
    unused = [name for name in rows.header if name not in {cell.header for cell in mapped}]
    if unused:
        shown = ", ".join(unused[:8]) + (" …" if len(unused) > 8 else "")
        reading.remarks.append(f"{path}: not used: {'column' if len(unused) == 1 else 'columns'} {shown}")
    repeated = [name for name, times in Counter(rows.header).items() if times > 1]
    if repeated:
        reading.remarks.append(
            f"{path}: several columns are called {', '.join(repeated[:8])}; none of them is used"
        )
    required = "name" if table is facts.ACCOUNT else table.names[0]
    frame = _refuse(frame, frame[required].is_null(), f"no {required}", rows, intake)
    if table is facts.ACCOUNT and frame["name"].n_unique() < frame.height:
        frame = _refuse(
            frame, ~frame["name"].is_first_distinct(), "this name stood on an earlier line", rows, intake
        )
    intake.read += frame.height
    return frame.drop(_LINE) if _LINE in frame.columns else frame


_LINE = "row in the file"


def _converted(
    cells: list[Cell], rows: Rows, intake: TableIntake, reading: Reading, path: str
) -> pl.DataFrame:
    """All columns of facts, and where one could not be read, the UNREAD column."""
    columns: dict[str, pl.Series] = {}
    unread: dict[str, pl.Series] = {}
    for cell in cells:
        if not cell.header:
            columns[cell.column.name] = constant(cell, rows.height)
            continue
        converted = convert(cell, rows.columns[cell.header], padded=rows.is_padded)
        columns[cell.column.name] = converted.facts
        if converted.remark:
            reading.remarks.append(f"{path}: {converted.remark}")
        if converted.unread is not None and converted.unread.any():
            unread[cell.column.name] = converted.unread
            _note_unreadable(cell, converted, rows, intake)
    frame = pl.DataFrame([series.alias(name) for name, series in columns.items()])
    return with_unread(frame, unread)


def _note_unreadable(cell: Cell, converted: Converted, rows: Rows, intake: TableIntake) -> None:
    assert converted.unread is not None and converted.written is not None
    places = converted.unread.arg_true()
    first = places.head(MOST_DETAILS).to_list()
    written = converted.written.gather(first).to_list()
    details = (
        Refusal(rows.file, line, f'"{_short(value)}": {converted.reasons(value)}', cell.header)
        for line, value in zip(rows.lines(first), written, strict=True)
    )
    intake.cannot_read(len(places), details)


def _short(value: str) -> str:
    return value if len(value) <= 40 else f"{value[:37]}…"


def _refuse(
    frame: pl.DataFrame, condition: pl.Series, reason: str, rows: Rows, intake: TableIntake
) -> pl.DataFrame:
    """Leave out the rows for which the condition holds, with a note on each."""
    if not condition.any():
        return frame
    if _LINE not in frame.columns:
        frame = frame.with_columns(pl.int_range(pl.len(), dtype=pl.UInt32).alias(_LINE))
    places = frame.filter(condition)[_LINE].to_list()
    for line in rows.lines(places[:MOST_DETAILS]):
        intake.refuse(Refusal(rows.file, line, reason))
    intake.refused += max(len(places) - MOST_DETAILS, 0)
    return frame.filter(~condition)


def _refer_to_accounts(reading: Reading, column_map: ColumnMap) -> None:
    """Give accounts their keys, and the rows of the other tables the keys of their accounts."""
    prefix = pl.lit(reading.source + "/")
    accounts = reading.tables["account"]
    accounts = accounts.with_columns((prefix + pl.col("name")).alias("account"))
    reading.tables["account"] = accounts
    for name, frame in reading.tables.items():
        if not facts.TABLES[name].of_account:
            continue
        by = next(cell.by for cell in column_map.tables[name] if cell.column.name == "account")
        if by == "name":
            reading.tables[name] = frame.with_columns((prefix + pl.col("account")).alias("account"))
            continue
        if by not in accounts.columns:
            raise fail(
                f"the rows of {name} are looked up by {by}, which the map does not give for accounts",
                file=reading.source,
                hint=f"map {by} under [account.columns]",
            )
        keys = accounts.filter(pl.col(by).is_not_null() & pl.col(by).is_unique()).select(
            pl.col(by).alias("looked up"), pl.col("account").alias("key")
        )
        found = frame.join(keys, left_on="account", right_on="looked up", how="left", maintain_order="left")
        reading.tables[name] = found.with_columns(
            pl.coalesce("key", prefix + pl.col("account")).alias("account")
        ).drop("key")
