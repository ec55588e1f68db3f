"""`read = "csv"`: any CSV export of a directory or service, through a column map."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor

import polars as pl

from keymallet.core import facts
from keymallet.core.problems import fail
from keymallet.core.reading import Reading, Refusal
from keymallet.sources.column_map import ColumnMap, read_column_map
from keymallet.sources.csv_table import TableFile
from keymallet.sources.request import Request, utf8_text
from keymallet.sources.sections import CsvSection

NO_SUCH_THING = "the system has no such thing"


def read(section: CsvSection, request: Request) -> list[Reading]:
    """Read the files of one export. Raises KeymalletError where the map or a whole file cannot be read."""
    reading = Reading(request.name)
    column_map = _column_map(section, request, reading)
    _check_files(section, column_map)
    files = _table_files(section, column_map, reading)
    with ThreadPoolExecutor(max_workers=2) as side_by_side:
        list(side_by_side.map(lambda file: file.read(column_map, request, reading), files))
    for name in dict.fromkeys(file.table.name for file in files):
        _put_together([file for file in files if file.table.name == name], reading)
        reading.supply[name].update(dict.fromkeys(column_map.absent[name], NO_SUCH_THING))
    reading.tables.setdefault("account", pl.DataFrame(schema={"name": pl.String}))
    for name in column_map.absent_tables:
        reading.supply[name] = dict.fromkeys(facts.TABLES[name].names, NO_SUCH_THING)
    _look_up_accounts(reading, column_map)
    return [reading]


def _table_files(section: CsvSection, column_map: ColumnMap, reading: Reading) -> list[TableFile]:
    """The files to be read, table by table in the order of the map."""
    files = []
    for name, cells in column_map.tables.items():
        given = section.files.get(name, [])
        if not given:
            reading.remarks.append(f"{section.map}: {name} is mapped, but the estate names no file of it")
        paths = [given] if isinstance(given, str) else given
        files += [TableFile(facts.TABLES[name], path, cells) for path in paths]
    return files


def _put_together(files: list[TableFile], reading: Reading) -> None:
    """One table out of its files. An account that an earlier file has named already is refused."""
    name = files[0].table.name
    intake = reading.table_intake(name)
    earlier = pl.Series("name", [], dtype=pl.String)
    frames = []
    for file in files:
        frame = file.frame
        if file.table is facts.ACCOUNT and len(files) > 1:
            again = frame["name"].is_in(earlier.implode())
            for login in frame.filter(again)["name"]:
                file.intake.refuse(Refusal(file.path, 0, f"{login} stood in an earlier file"))
                file.intake.read -= 1
            frame = frame.filter(~again)
            earlier = pl.concat([earlier, frame["name"]])
        frames.append(frame)
        intake.add(file.intake)
        reading.remarks += file.remarks
        reading.supply.setdefault(name, {}).update(file.supply)
    reading.tables[name] = frames[0] if len(frames) == 1 else pl.concat(frames, how="diagonal")


def _column_map(section: CsvSection, request: Request, reading: Reading) -> ColumnMap:
    text = utf8_text(request.bytes_of(section.map, reading), section.map)
    return read_column_map(text, section.map, request.clock)


def _check_files(section: CsvSection, column_map: ColumnMap) -> None:
    unmapped = section.files.keys() - column_map.tables.keys()
    if unmapped:
        names = ", ".join(sorted(unmapped))
        hint = f"add [{sorted(unmapped)[0]}.columns] to it, or take the file out of the estate"
        raise fail(f"the map says nothing about the table {names}", file=section.map, hint=hint)
    if not section.files.keys() & {"account", "person"}:
        hint = 'files = { account = "…" } in the estate; a roster has { person = "…" }'
        raise fail("no file of accounts is named", file=section.map, hint=hint)


def _look_up_accounts(reading: Reading, column_map: ColumnMap) -> None:
    """Where rows name their accounts by something else than the login name, put the name there."""
    accounts = reading.tables["account"]
    for name, frame in reading.tables.items():
        if not facts.TABLES[name].of_account:
            continue
        by = next(cell.by for cell in column_map.tables[name] if cell.column.name == "account")
        if by == "name":
            continue
        if by not in accounts.columns:
            raise fail(
                f"the rows of {name} are looked up by {by}, which the map does not give for accounts",
                file=reading.source,
                hint=f"map {by} under [account.columns]",
            )
        keys = accounts.filter(pl.col(by).is_not_null() & pl.col(by).is_unique()).select(by, found="name")
        found = frame.join(keys, left_on="account", right_on=by, how="left", maintain_order="left")
        reading.tables[name] = found.with_columns(pl.coalesce("found", "account").alias("account")).drop(
            "found"
        )
