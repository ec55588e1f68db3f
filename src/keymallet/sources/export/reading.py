"""An export on disk, in whatever format: its column map, its files, table by table."""

from __future__ import annotations

import re
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime
from pathlib import Path

import polars as pl

from keymallet.core.base.problems import fail
from keymallet.core.facts.declaration import ACCOUNT, EXEMPTION, PLANNED, TABLES
from keymallet.core.facts.reading import NO_SUCH_THING, Reading, Refusal
from keymallet.core.facts.shards import is_in_every_shard
from keymallet.core.language.clocks import AN_INSTANT, instant_of
from keymallet.sources.export.column_map import ColumnMap, RowMap
from keymallet.sources.export.csv_export import CSV
from keymallet.sources.export.formats import Format
from keymallet.sources.export.json_export import JSON
from keymallet.sources.export.map_checks import read_column_map
from keymallet.sources.export.shaping import NUMBER, is_for, numbered
from keymallet.sources.export.table_file import TableFile
from keymallet.sources.export.text_export import TEXT
from keymallet.sources.request import Request, read_file
from keymallet.sources.sections import ExportSection

_LOOKED_UP = "looked up by"
"""The name of a column that stands beside the facts while accounts are looked up: no fact is called so."""
_PATTERN = re.compile(r"[*?\[]")


_JSON = (".json", ".jsonl", ".ndjson")
FORMATS = {"csv": CSV, "json": JSON, "text": TEXT}
"""Every format by the word that estate files and maps call it by. A new one is a module and a row here."""


def usual_format(path: str) -> str:
    """The format that a file is in by its ending, where nobody says."""
    return "json" if Path(path).suffix.lower() in _JSON else "csv"


def read(section: ExportSection, request: Request) -> list[Reading]:
    """Read the files of one export, in the format that its section names or the map says of a file.

    Raises KeymalletError where the map or a whole file cannot be read.
    """
    reading = Reading(request.name)
    text = request.config_of(section.map, reading)
    column_map = read_column_map(text, section.map, request.clock, FORMATS[section.read].header_fault)
    _check_files(section, column_map)
    read_mapped(section, column_map, request, reading)
    reading.as_of = _as_of(section, request, reading)
    return [reading]


def _as_of(section: ExportSection, request: Request, reading: Reading) -> datetime | None:
    """When the facts of an export were true, as its section says, or a column. Raises KeymalletError."""
    if section.as_of is None:
        return _not_ahead(reading.as_of, request, reading)
    if section.as_of == "file":
        named = [[given] if isinstance(given, str) else given for given in section.files.values()]
        paths = {path for names in named for name in names for path in _paths_of(name, request)}
        oldest = min((request.folder / path).stat().st_mtime for path in paths)
        said = datetime.fromtimestamp(oldest, UTC)
    else:
        instant = instant_of(section.as_of, request.clock)
        if instant is None:
            where = f'as-of in [source.{request.name}]: "{section.as_of}" is no date'
            raise fail(where, hint=f'{AN_INSTANT}, or "file" for the date of its files')
        said = instant
    return _not_ahead(said, request, reading)


def _not_ahead(said: datetime | None, request: Request, reading: Reading) -> datetime | None:
    if said is not None and said > request.at:
        reading.remarks.append(f"as of {said:%Y-%m-%d %H:%M}Z, which is after the reading: not used")
        return None
    return said


def read_mapped(section: ExportSection, column_map: ColumnMap, request: Request, reading: Reading) -> Reading:
    """Read the files of one export by a map that has been checked.

    Raises KeymalletError where a whole file cannot be read.
    """

    def format_of(path: str) -> Format:
        return FORMATS[column_map.settings_of(path).read or section.read]

    files = _table_files(section, column_map, request, reading, format_of)

    def read_file(file: TableFile) -> None:
        form, blocks = format_of(file.path), None
        if request.spool is not None and not _has_to_be_held(file, files):
            blocks = form.blocks_of(request.folder / file.path, file.path, column_map, file.row_map)
        if blocks is None:
            file.read(column_map, request, reading, form.rows_of)
        else:
            file.read_in_blocks(blocks, column_map, request, reading, form)

    with ThreadPoolExecutor(max_workers=2) as side_by_side:
        list(side_by_side.map(read_file, files))
    _remark_unused(files, reading)
    _date(files, reading)
    reading.tables["account"] = pl.DataFrame(schema={"name": pl.String})
    # Accounts first: the rows of other tables may name them by something else than their login.
    for name in sorted(dict.fromkeys(file.table.name for file in files), key=lambda name: name != "account"):
        _put_together([file for file in files if file.table.name == name], reading)
        reading.supply[name].update(dict.fromkeys(column_map.absent[name], NO_SUCH_THING))
    for name in column_map.absent_tables:
        reading.supply[name] = dict.fromkeys(TABLES[name].names, NO_SUCH_THING)
    return reading


def _date(files: list[TableFile], reading: Reading) -> None:
    """When the files were true, where a column of theirs tells: the oldest of their rows counts for all."""
    for file in files:
        if file.as_of is None:
            continue
        column = file.row_map.as_of.header if file.row_map.as_of else ""
        first, last = file.as_of.min(), file.as_of.max()
        if not isinstance(first, datetime) or not isinstance(last, datetime):
            reading.remarks.append(f'{file.path}: "{column}" dates no row: it counts as of the reading')
            continue
        if first != last:
            span = f"from {first:%Y-%m-%d %H:%M}Z to {last:%Y-%m-%d %H:%M}Z"
            reading.remarks.append(f'{file.path}: "{column}" goes {span}: the oldest counts')
        reading.as_of = min(first, reading.as_of or first)


def _table_files(
    section: ExportSection,
    column_map: ColumnMap,
    request: Request,
    reading: Reading,
    format_of: Callable[[str], Format],
) -> list[TableFile]:
    """The files to be read, table by table in the order of the map."""
    files = []
    for name, row_maps in column_map.tables.items():
        given = section.files.get(name, [])
        if not given:
            reading.remarks.append(f"{section.map}: {name} is mapped, but the estate names no file of it")
        named = [given] if isinstance(given, str) else given
        paths = dict.fromkeys(path for name in named for path in _paths_of(name, request))
        for path in paths:
            files += [
                TableFile(part, path)
                for part in parts_for(path, row_maps, column_map, request, format_of(path))
            ]
    return files


def _paths_of(name: str, request: Request) -> list[str]:
    """The files that a name stands for: those that fit it, in order, where it is a pattern."""
    if not _PATTERN.search(name) or (request.folder / name).exists():
        return [name]
    anchor = Path(name).anchor
    found = (Path(anchor) if anchor else request.folder).glob(Path(name).relative_to(anchor).as_posix())
    paths = sorted(
        (path if anchor else path.relative_to(request.folder)).as_posix() for path in found if path.is_file()
    )
    if not paths:
        raise fail("no file is called like this", file=name, hint="paths are taken from the estate's folder")
    return paths


def parts_for(
    path: str, row_maps: list[RowMap], column_map: ColumnMap, request: Request, format_: Format
) -> list[RowMap]:
    """The parts of the map that are for this file, numbered columns taken apart.

    Raises KeymalletError where none is.
    """
    if not any(part.if_columns or any(NUMBER in name for name in part.asked) for part in row_maps):
        return row_maps
    names = format_.names_of(read_file(request.folder / path, path), path, column_map)
    fitting = [part for part in row_maps if part.if_columns and is_for(part, names)]
    best = max(fitting, key=lambda part: len(part.if_columns), default=None)
    mine = [part for part in row_maps if not part.if_columns or part is best]
    if not mine:
        table = row_maps[0].table.name
        hint = f"the columns are: {', '.join(names[:12])}{' …' if len(names) > 12 else ''}"
        raise fail(f"none of the parts for {table} is for this file", file=path, line=1, hint=hint)
    return [each for part in mine for each in numbered(part, names, path)]


def _remark_unused(files: list[TableFile], reading: Reading) -> None:
    """Say which columns of a file no table is made of; one file may fill several."""
    for path in dict.fromkeys(file.path for file in files):
        mine = [file.unused for file in files if file.path == path]
        unused = [name for name in mine[0] if all(name in others for others in mine)]
        if unused:
            shown = ", ".join(unused[:8]) + (" …" if len(unused) > 8 else "")
            noun = "column" if len(unused) == 1 else "columns"
            reading.remarks.append(f"{path}: not used: {noun} {shown}")


def _put_together(files: list[TableFile], reading: Reading) -> None:
    """One table out of its files. An account that an earlier file has named already is refused."""
    name = files[0].table.name
    intake = reading.table_intake(name)
    key = files[0].table.required
    earlier = pl.Series(key, [], dtype=pl.String)
    frames = []
    for file in files:
        frame = _with_accounts(file, reading)
        if not file.table.of_account and len(files) > 1:
            again = frame[key].is_in(earlier.implode())
            for login in frame.filter(again)[key]:
                file.intake.refuse(Refusal(file.path, 0, f"{login} stood in an earlier file"))
                file.intake.read -= 1
            frame = frame.filter(~again)
            earlier = pl.concat([earlier, frame[key]])
        frames.append(frame)
        intake.add(file.intake)
        reading.remarks += [remark for remark in file.remarks if remark not in reading.remarks]
        for column, where in file.supply.items():
            reading.supply.setdefault(name, {}).setdefault(column, where)
    if any(file.spooled for file in files):
        _spool_together(files, frames, reading)
        return
    reading.tables[name] = frames[0] if len(frames) == 1 else pl.concat(frames, how="diagonal")


def _spool_together(files: list[TableFile], frames: list[pl.DataFrame], reading: Reading) -> None:
    """One table on disk out of files of which some are: in their order."""
    first = next(file.spooled for file in files if file.spooled)
    spooled = first.beside()
    for file, frame in zip(files, frames, strict=True):
        if file.spooled:
            spooled.take_over(file.spooled)
        else:
            spooled.add(frame)
    name = files[0].table.name
    reading.on_disk[name] = spooled
    reading.tables[name] = pl.DataFrame(schema=spooled.kinds)


def _has_to_be_held(file: TableFile, files: list[TableFile]) -> bool:
    """Whether all rows of a file have to be there at once, however many they are.

    Others may be looked up by them, or repeat them; what is in force in a source is for all of its shards.
    """
    several = file.names_stand_once and len([other for other in files if other.table is file.table]) > 1
    asked = file.table is ACCOUNT and any(map(_looks_up, files))
    return several or asked or _looks_up(file) or is_in_every_shard(file.table.name)


def _looks_up(file: TableFile) -> bool:
    """Whether its rows name their accounts by something else than their login, as it stands."""
    if not file.table.of_account:
        return False
    cell = next(cell for cell in file.row_map.cells if cell.column.name == "account")
    return cell.by != "name" or cell.own.ignore_case


def _check_files(section: ExportSection, column_map: ColumnMap) -> None:
    if EXEMPTION.name in section.files:
        hint = "keymallet exempt import FILE --map MAP enters a list of them there"
        raise fail("exemptions stand in the register, and in no source", file=section.map, hint=hint)
    if PLANNED.name in section.files:
        hint = "keymallet vet FILE --map MAP looks at a batch before it is loaded"
        raise fail("accounts that are about to be made stand in no source", file=section.map, hint=hint)
    unmapped = section.files.keys() - column_map.tables.keys()
    if unmapped:
        names = ", ".join(sorted(unmapped))
        hint = f"add [{sorted(unmapped)[0]}.columns] to it, or take the file out of the estate"
        raise fail(f"the map says nothing about the table {names}", file=section.map, hint=hint)
    if not section.files.keys() & {"account", "person"}:
        hint = 'files = { account = "…" } in the estate; a roster has { person = "…" }'
        raise fail("no file of accounts is named", file=section.map, hint=hint)


def _with_accounts(file: TableFile, reading: Reading) -> pl.DataFrame:
    """The file's rows; where they name their accounts by something else, with the login name there."""
    if not _looks_up(file):
        return file.frame
    cell = next(cell for cell in file.row_map.cells if cell.column.name == "account")
    accounts = reading.tables["account"]
    if cell.by not in accounts.columns:
        said = f"the rows of {file.table.name} are looked up by {cell.by}"
        raise fail(
            f"{said}, which the map does not give for accounts",
            file=reading.source,
            hint=f"map {cell.by} under [account.columns]",
        )
    own, their = pl.col("account"), pl.col(cell.by)
    if cell.own.ignore_case:
        own, their = own.str.to_lowercase(), their.str.to_lowercase()
    keys = accounts.select(their.alias(_LOOKED_UP), found="name").filter(
        pl.col(_LOOKED_UP).is_not_null() & pl.col(_LOOKED_UP).is_unique()
    )
    asked = file.frame.with_columns(own.alias(_LOOKED_UP))
    matched = asked.join(keys, on=_LOOKED_UP, how="left", maintain_order="left")
    return matched.with_columns(pl.coalesce("found", "account").alias("account")).drop("found", _LOOKED_UP)
