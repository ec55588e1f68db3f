"""A column map read and checked: every mistake in it, with its place, before any file is opened."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from datetime import date
from typing import Any
from zoneinfo import ZoneInfo

import msgspec
import polars as pl

from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.toml_text import Path, TomlDocument
from keymallet.core.facts.declaration import ACCOUNT, TABLES, TOLD_TABLES, tables_of_account
from keymallet.core.facts.model import Column, Kind, Table
from keymallet.core.language.clocks import is_zone
from keymallet.sources.export.column_map import Cell, ColumnMap, RowMap, folded
from keymallet.sources.export.json_path import MEMBER, OUTSIDE
from keymallet.sources.export.lengths import parse_length
from keymallet.sources.export.map_shapes import (
    FILE_NAME,
    NAMED_FORMATS,
    SPAN_UNITS,
    CellMap,
    ColumnMapText,
    Dates,
    TableMap,
)
from keymallet.sources.export.map_target import target_of

AS_OF = Column("as-of", Kind.INSTANT, "when the rows of a file were true", past=True)
"""No fact of anybody: it dates the source."""
_DIRECTIVES = frozenset("YymdbBeHIMSfpzjaATGVu")
_POSITIONS = re.compile(r"(\d+)(?:-(\d+))?", re.ASCII)


def read_column_map(
    text: str,
    name: str,
    clock: ZoneInfo,
    header_fault: Callable[[str], str] = lambda header: "",
    *,
    of_target: bool = False,
) -> ColumnMap:
    """Read and check a column map; `header_fault` says what is wrong with the name of a column.

    With `of_target` it need not map a table: only what it says of the target of a batch is wanted.
    Raises KeymalletError with every problem in it.
    """
    document = TomlDocument(text, name)
    tables = {key: value for key, value in document.data.items() if key in TOLD_TABLES}
    rest = {key: value for key, value in document.data.items() if key not in TOLD_TABLES}
    settings = {field.encode_name for field in msgspec.structs.fields(ColumnMapText)}
    for key in rest.keys() - settings:
        hint = (
            did_you_mean(key, TOLD_TABLES)
            or did_you_mean(key, settings)
            or f"there are the tables {', '.join(TOLD_TABLES)}"
        )
        document.fault((key,), f'"{key}" is neither a setting nor a table', hint)
    rest = {key: value for key, value in rest.items() if key in settings}
    map_settings = document.read(ColumnMapText, rest)
    maps = {key: _parts(document, key, value) for key, value in tables.items()}
    if not tables and not of_target and not document.problems:
        document.fault((), "the map names no table", 'add [account.columns] with name = "…"')
    document.raise_problems()
    assert map_settings is not None
    checked = _Checked(document, map_settings, clock, header_fault)
    checked_maps = {
        key: [checked.table(TABLES[key], part, path) for path, part in parts] for key, parts in maps.items()
    }
    positions = checked.positions()
    target = target_of(map_settings.target, document)
    document.raise_problems()
    absent = {key: [name for _, part in parts for name in part.absent] for key, parts in maps.items()}
    return ColumnMap(
        map_settings.encoding,
        map_settings.separator,
        map_settings.header_line,
        map_settings.file,
        positions,
        map_settings.ordered_by,
        map_settings.records,
        map_settings.list_separator,
        checked_maps,
        absent,
        map_settings.absent,
        target,
    )


def _parts(document: TomlDocument, key: str, value: Any) -> list[tuple[Path, TableMap]]:
    """The parts of the map that fill one table, each with its path: `[key]`, or several `[[key]]`."""
    parts = value if isinstance(value, list) else [value]
    paths: list[Path] = [(key, place) for place in range(len(parts))] if isinstance(value, list) else [(key,)]
    read = [(path, document.read(TableMap, part, path)) for path, part in zip(paths, parts, strict=True)]
    return [(path, part) for path, part in read if part is not None]


class _Checked:
    """Fills defaults in and notes what does not fit the facts."""

    def __init__(
        self,
        document: TomlDocument,
        settings: ColumnMapText,
        clock: ZoneInfo,
        header_fault: Callable[[str], str],
    ) -> None:
        self.document = document
        self.header_fault = header_fault
        self.settings = settings
        self.clock = clock
        self._dates(settings.dates, ("dates",))
        for name, zone in settings.dates.zones.items():
            self._zone(zone, ("dates", "zones", name))
        rows = [table.name for table in tables_of_account() if not table.across]
        for name in settings.absent:
            if name not in rows:
                hint = did_you_mean(name, rows) or f"there are: {', '.join(rows)}"
                document.fault(("absent",), f'"{name}" is no table whose rows belong to accounts', hint)
            elif name in document.data:
                document.fault(("absent",), f'"{name}" is mapped as well')

    def table(self, table: Table, table_map: TableMap, start: Path) -> RowMap:
        """One part of the map for one table; `start` is where it stands."""
        path: Path = (*start, "columns")
        if table.required not in table_map.columns:
            hint = f'say which column it is: {table.required} = "…"'
            self.document.fault(path, f'"{table.required}" is missing', hint)
        for name in table_map.absent:
            if table.column(name) is None:
                self._no_such_fact(table, name, (*start, "absent"))
            elif name in table_map.columns:
                self.document.fault((*start, "absent"), f'"{name}" is mapped as well')
        named = [("rows", table_map.rows), ("only-with", table_map.only_with)]
        named += [("only-where", header) for header in table_map.only_where]
        named += [("leave-out", header) for header in table_map.leave_out]
        named += [("if-columns", header) for header in table_map.if_columns]
        for option, header in named:
            if header and self.header_fault(header):
                self.document.fault((*start, option), self.header_fault(header))
        cells = [self._cell(table, name, entry, (*path, name)) for name, entry in table_map.columns.items()]
        for cell in filter(None, cells):
            if MEMBER in {header.removeprefix(OUTSIDE) for header in cell.headers} and not table_map.rows:
                complaint = f'"{cell.header}" is a member of the list that rows names, and rows is not set'
                self.document.fault((*path, cell.column.name), complaint, 'like rows = "Methods"')
        known = [cell for cell in cells if cell is not None]
        separator = table_map.separator or self.settings.list_separator
        own = [cell.none for cell in known if cell.header == table_map.only_with]
        nothing = folded(self.settings.none).union(*own)
        only_with, missing = table_map.only_with, table_map.missing
        return RowMap(
            table,
            known,
            table_map.rows,
            separator,
            only_with,
            missing,
            nothing,
            _conditions(table_map.only_where),
            _conditions(table_map.leave_out),
            tuple(table_map.if_columns),
            self._as_of(table_map.as_of, (*start, "as-of")),
        )

    def _as_of(self, entry: str | CellMap, path: Path) -> Cell | None:
        """The column that tells when the rows of a file were true."""
        cell = CellMap(from_=entry) if isinstance(entry, str) else entry
        if entry == "":
            return None
        if not isinstance(cell.from_, str) or not cell.from_ or cell.always is not None:
            self.document.fault(path, "this names one column", 'like as-of = "Report date"')
            return None
        if self.header_fault(cell.from_):
            self.document.fault(path, self.header_fault(cell.from_))
        self._fits(AS_OF, cell, path)
        return Cell(AS_OF, cell, self.settings, self.clock.key)

    def positions(self) -> dict[str, tuple[int, int]]:
        """Where on a line each column stands: its first letter, counted from 0, and how many it has."""
        found = {}
        for name, written in self.settings.positions.items():
            match = _POSITIONS.fullmatch(written)
            first, last = (int(match[1]), int(match[2] or match[1])) if match else (0, 0)
            if not 1 <= first <= last:
                self.document.fault(
                    ("positions", name), f'"{written}" are no positions', 'like "1-8", or "12"'
                )
            found[name] = (first - 1, last - first + 1)
        ordered = self.settings.ordered_by
        if ordered and ordered not in found:
            hint = did_you_mean(ordered, found) or 'it orders fixed-width text: positions = { login = "1-8" }'
            self.document.fault(("ordered-by",), f'no column "{ordered}" has positions', hint)
        return found

    def _no_such_fact(self, table: Table, name: str, path: Path) -> None:
        hint = did_you_mean(name, table.names) or f'"keymallet dictionary {table.name}" lists them'
        self.document.fault(path, f'{table.name} has no column "{name}"', hint)

    def _cell(self, table: Table, name: str, entry: str | CellMap, path: Path) -> Cell | None:
        column = table.column(name)
        if column is None or (table is ACCOUNT and name in ("account", "source")):
            self._no_such_fact(table, name, path)
            return None
        if column.across:
            complaint = f'"{name}" is worked out over all sources: no export gives it'
            self.document.fault(path, complaint, "take the line out")
            return None
        cell = CellMap(from_=entry) if isinstance(entry, str) else entry
        if bool(cell.from_) == (cell.always is not None):
            self.document.fault(path, 'say either from = "column" or always = value', "")
        for header in [cell.from_] if isinstance(cell.from_, str) else cell.from_:
            if header and header != FILE_NAME and self.header_fault(header):
                self.document.fault(path, self.header_fault(header))
        self._fits(column, cell, path)
        return Cell(column, cell, self.settings, self.clock.key)

    def _fits(self, column: Column, cell: CellMap, path: Path) -> None:
        """An option that means nothing for this type of fact is a mistake, not something to pass over."""
        of_kind: dict[str, tuple[Kind, ...]] = {
            "true": (Kind.FLAG,),
            "false": (Kind.FLAG,),
            "words": (Kind.WORD, Kind.WORDS),
            "otherwise": (Kind.WORD, Kind.FLAG),
            "separator": (Kind.WORDS,),
            "formats": (Kind.INSTANT,),
            "zone": (Kind.INSTANT,),
            "plain": (Kind.INSTANT,),
            "unit": (Kind.SPAN,),
        }
        for option, kinds in of_kind.items():
            if getattr(cell, option) and column.kind not in kinds:
                self.document.fault(
                    (*path, option),
                    f'"{option}" says nothing about {column.kind.value} facts like "{column.name}"',
                )
        if cell.by and (column.name != "account" or cell.by not in ("name", "stable-id", "mail")):
            self.document.fault((*path, "by"), "only an account can be looked up, by name, stable-id or mail")
        if cell.ignore_case and column.name != "account":
            complaint = "only an account can be looked up without regard to case"
            self.document.fault((*path, "ignore-case"), complaint)
        if cell.unit and cell.unit not in SPAN_UNITS:
            hint = did_you_mean(cell.unit, SPAN_UNITS) or f"there are: {', '.join(SPAN_UNITS)}"
            self.document.fault((*path, "unit"), f'"{cell.unit}" is no unit of time', hint)
        if cell.pattern and (wrong := _pattern_fault(cell.pattern)):
            self.document.fault((*path, "pattern"), wrong, 'like pattern = "^CN=([^,]+)"')
        otherwise = cell.otherwise if isinstance(cell.otherwise, str) else ""
        if cell.otherwise != "" and isinstance(cell.otherwise, bool) != (column.kind is Kind.FLAG):
            complaint = f'"{column.name}" is a {column.kind.value} and cannot be {cell.otherwise!r}'
            self.document.fault((*path, "otherwise"), complaint)
        if cell.empty is not None:
            self._empty(column, cell.empty, (*path, "empty"))
        for key, word in [*cell.words.items(), ("otherwise", otherwise)]:
            if word and column.words and word not in column.words:
                place = (*path, "otherwise") if key == "otherwise" else (*path, "words", key)
                hint = did_you_mean(word, column.words) or f"there are: {', '.join(column.words)}"
                self.document.fault(place, f'"{word}" is none of the words of {column.name}', hint)
        if cell.always is not None:
            self._always(column, cell.always, path)
        self._dates(cell, path)

    def _empty(self, column: Column, empty: bool | str, path: Path) -> None:
        """What an empty cell means has to be something that the fact can be."""
        fits = empty in ("none", "unknown") if isinstance(empty, str) else column.kind is Kind.FLAG
        if not (fits or (column.kind is Kind.WORD and empty in column.words)):
            words = ", ".join(column.words) if column.words else "true or false, for a yes or no"
            hint = f'"none", "unknown", or {words}'
            self.document.fault(path, f'an empty cell cannot mean {empty!r} for "{column.name}"', hint)

    def _always(self, column: Column, value: Any, path: Path) -> None:
        types: dict[Kind, type] = {
            Kind.FLAG: bool,
            Kind.COUNT: int,
            Kind.TEXT: str,
            Kind.WORD: str,
            Kind.WORDS: list,
            Kind.INSTANT: date,
            Kind.SPAN: str,
        }
        wanted = types.get(column.kind)
        if column.kind is Kind.SPAN and isinstance(value, str) and parse_length(value) is None:
            self.document.fault((*path, "always"), f'"{value}" is no length of time', "like 90d or 8 h")
        elif column.kind is Kind.WORDS and not all(isinstance(word, str) for word in _members(value)):
            self.document.fault((*path, "always"), f'the members of "{column.name}" are words, in quotes')
        elif wanted is None or not isinstance(value, wanted) or (wanted is int and isinstance(value, bool)):
            self.document.fault(
                (*path, "always"), f'"{column.name}" is a {column.kind.value} and cannot always be {value!r}'
            )
        elif column.kind is Kind.WORD and value not in column.words:
            hint = did_you_mean(str(value), column.words) or f"there are: {', '.join(column.words)}"
            self.document.fault((*path, "always"), f'"{value}" is none of the words of {column.name}', hint)

    def _dates(self, dates: CellMap | Dates, path: Path) -> None:
        for number, written in enumerate(dates.formats or []):
            wrong = _format_fault(written)
            if wrong:
                hint = f'there are {", ".join(NAMED_FORMATS)}, and patterns like "%d.%m.%Y %H:%M"'
                self.document.fault((*path, "formats", number), wrong, hint)
        if dates.plain and dates.plain not in ("through", "until"):
            hint = '"through": still usable on that day; "until": no longer'
            self.document.fault(
                (*path, "plain"), f'a plain date is read as through or until, not "{dates.plain}"', hint
            )
        if dates.zone:
            self._zone(dates.zone, (*path, "zone"))

    def _zone(self, zone: str, path: Path) -> None:
        if not is_zone(zone):
            self.document.fault(path, f'"{zone}" is no time zone', 'like "Europe/Zurich", "UTC"')


def _format_fault(written: str) -> str:
    """What is wrong with a date format, or an empty string. It has to hold a whole date."""
    if written in NAMED_FORMATS:
        return ""
    directives = {piece[:1] for piece in written.replace("%%", "").split("%")[1:]}
    if not directives:
        return f'"{written}" is no date format'
    if directives - _DIRECTIVES:
        return f'"%{sorted(directives - _DIRECTIVES)[0]}" means nothing in a date format'
    has_day = (directives & set("mbB") and directives & set("de")) or "j" in directives
    is_week_day = directives >= set("GVu")
    if not ((directives & set("Yy") and has_day) or is_week_day):
        return f'"{written}" does not hold year, month and day'
    has_time = "T" in directives or ("M" in directives and ("H" in directives or {"I", "p"} <= directives))
    if directives & set("HIMSfp") and not has_time:
        return f'"{written}" holds a time without hour and minute'
    return ""


def _pattern_fault(pattern: str) -> str:
    """What is wrong with a regular expression that cuts a value out."""
    try:
        groups = re.compile(pattern).groups
        pl.Series(["x"]).str.extract(pattern, 1 if groups else 0)
    except (re.error, pl.exceptions.PolarsError) as error:
        return f"this is no regular expression: {str(error).splitlines()[0]}"
    return ""


def _members(value: Any) -> list[Any]:
    return value if isinstance(value, list) else []


def _conditions(written: Mapping[str, str | list[str]]) -> dict[str, frozenset[str]]:
    return {name: folded([words] if isinstance(words, str) else words) for name, words in written.items()}
