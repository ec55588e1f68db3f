"""The column map: which column of an export is which fact, and how its values are written."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any, Literal
from zoneinfo import ZoneInfo

import msgspec

from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.toml_text import Path, TomlDocument
from keymallet.core.facts.declaration import ACCOUNT, TABLES, TOLD_TABLES, tables_of_account
from keymallet.core.facts.model import Column, Kind, Table
from keymallet.core.language.clocks import is_zone
from keymallet.sources.export.json_path import MEMBER, OUTSIDE

NAMED_FORMATS = (
    "iso",
    "epoch-seconds",
    "epoch-milliseconds",
    "epoch-microseconds",
    "epoch-nanoseconds",
    "epoch-days",
    "spreadsheet-days",
    "filetime",
)
_DIRECTIVES = frozenset("YymdbBeHIMSfpzjaATGVu")
TRUE_WORDS = ("true", "yes", "y", "1", "on")
FALSE_WORDS = ("false", "no", "n", "0", "off")
SPAN_UNITS = {"days": "d", "hours": "h", "minutes": "min", "seconds": "s"}
"""What a bare number of a length of time may be in, and how such a length is written."""


class CellMap(msgspec.Struct, rename="kebab", frozen=True):
    """How one fact is written. What is not said here is taken from the map's own defaults."""

    from_: str = msgspec.field(name="from", default="")
    always: bool | int | str | list[str] | None = None
    true: list[str] | None = None
    false: list[str] | None = None
    words: dict[str, str] = {}
    otherwise: str = ""
    separator: str = ""
    formats: list[str] | None = None
    zone: str | None = None
    plain: str | None = None
    unit: str = ""
    none: list[str] | None = None
    unknown: list[str] | None = None
    by: str = ""


class TableMap(msgspec.Struct, rename="kebab", frozen=True):
    """One table: its columns, and the facts that the system has no notion of (`absent`).

    `rows` is the list in each record whose members are the rows, `separator` what stands between them in a
    cell; `missing` is what it means that a record does not mention it. `only_with` leaves out records in
    which nothing stands there.
    """

    columns: dict[str, str | CellMap]
    absent: list[str] = []
    rows: str = ""
    separator: str = ""
    only_with: str = ""
    missing: Literal["unknown", "none"] = "unknown"


class Dates(msgspec.Struct, rename="kebab", frozen=True):
    """How dates are written throughout."""

    formats: tuple[str, ...] = ("iso",)
    zone: str | None = None
    zones: dict[str, str] = {}
    plain: str | None = None


class ColumnMapText(msgspec.Struct, rename="kebab", frozen=True):
    """A column map as it stands in its file; the tables stand beside these under their own names."""

    title: str = ""
    encoding: str | None = None
    separator: str | None = None
    records: str = ""
    list_separator: str = ";"
    dates: Dates = Dates()
    true: tuple[str, ...] = TRUE_WORDS
    false: tuple[str, ...] = FALSE_WORDS
    none: list[str] = []
    unknown: list[str] = []
    absent: list[str] = []


@dataclass(frozen=True)
class Cell:
    """How to read one fact: by what its own entry in the map says, else by the map's defaults.

    Words are compared without regard to case.
    """

    column: Column
    own: CellMap
    defaults: ColumnMapText
    clock: str

    @property
    def header(self) -> str:
        """The column it is read from; empty where it is always the same."""
        return self.own.from_

    @property
    def always(self) -> bool | int | str | list[str] | None:
        """The value of every row, if the map says one."""
        return self.own.always

    @cached_property
    def true(self) -> frozenset[str]:
        """Words for yes."""
        return _folded(self.defaults.true if self.own.true is None else self.own.true)

    @cached_property
    def false(self) -> frozenset[str]:
        """Words for no."""
        return _folded(self.defaults.false if self.own.false is None else self.own.false)

    @cached_property
    def words(self) -> dict[str, str]:
        """Words of the export, and which of ours each is."""
        return {_fold(key): value for key, value in self.own.words.items()}

    @property
    def otherwise(self) -> str:
        """What a word that is none of these stands for; empty where it is not understood."""
        return self.own.otherwise

    @property
    def separator(self) -> str:
        """What stands between the members of a list."""
        return self.own.separator or self.defaults.list_separator

    @cached_property
    def formats(self) -> tuple[str, ...]:
        """The formats that dates may be in, tried in turn."""
        return tuple(self.defaults.dates.formats if self.own.formats is None else self.own.formats)

    @property
    def zone(self) -> str:
        """The zone of times that carry none."""
        return self.own.zone or self.defaults.dates.zone or self.clock

    @property
    def zones(self) -> dict[str, str]:
        """Letters that may follow a time, and the zone each stands for."""
        return self.defaults.dates.zones

    @property
    def plain(self) -> str:
        """Whether a plain day still counts (`through`) or no longer (`until`); empty: not said."""
        return self.own.plain or self.defaults.dates.plain or ""

    @cached_property
    def none(self) -> frozenset[str]:
        """Words for there being none."""
        return _folded(self.defaults.none if self.own.none is None else self.own.none)

    @cached_property
    def unknown(self) -> frozenset[str]:
        """Words for its not being known."""
        return _folded(self.defaults.unknown if self.own.unknown is None else self.own.unknown)

    @property
    def unit(self) -> str:
        """What a bare number of a length of time is in, as lengths are written; empty: not said."""
        return SPAN_UNITS.get(self.own.unit, "")

    def divided_by(self, separator: str) -> Cell:
        """The same, with something else between the members of a list."""
        return replace(self, own=msgspec.structs.replace(self.own, separator=separator))

    @property
    def by(self) -> str:
        """The fact by which an account is looked up."""
        return self.own.by or "name"


@dataclass(frozen=True)
class RowMap:
    """How rows of one table are made of the records of a file."""

    table: Table
    cells: list[Cell]
    rows: str = ""
    separator: str = ""
    only_with: str = ""
    missing: str = "unknown"
    nothing: frozenset[str] = frozenset()

    def stands(self, value: str | None) -> bool:
        """Whether something stands in the column that `only_with` names: a word for nothing is nothing."""
        return value is not None and value.strip().casefold() not in self.nothing | {""}

    def is_none(self, member: str | None) -> bool:
        """Whether a member of the list that `rows` names stands for there being none."""
        return any(
            cell.header == MEMBER and (member or "").strip().casefold() in cell.none for cell in self.cells
        )


@dataclass(frozen=True)
class ColumnMap:
    """A checked column map. What is absent, the system has no notion of: no account has any."""

    encoding: str | None
    separator: str | None
    records: str
    list_separator: str
    tables: dict[str, list[RowMap]]
    absent: dict[str, list[str]]
    absent_tables: list[str]


def read_column_map(
    text: str, name: str, clock: ZoneInfo, header_fault: Callable[[str], str] = lambda header: ""
) -> ColumnMap:
    """Read and check a column map; `header_fault` says what is wrong with the name of a column.

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
    if not tables and not document.problems:
        document.fault((), "the map names no table", 'add [account.columns] with name = "…"')
    document.raise_problems()
    assert map_settings is not None
    checked = _Checked(document, map_settings, clock, header_fault)
    checked_maps = {
        key: [checked.table(TABLES[key], part, path) for path, part in parts] for key, parts in maps.items()
    }
    document.raise_problems()
    absent = {key: [name for _, part in parts for name in part.absent] for key, parts in maps.items()}
    return ColumnMap(
        map_settings.encoding,
        map_settings.separator,
        map_settings.records,
        map_settings.list_separator,
        checked_maps,
        absent,
        map_settings.absent,
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
        for option, header in (("rows", table_map.rows), ("only-with", table_map.only_with)):
            if header and self.header_fault(header):
                self.document.fault((*start, option), self.header_fault(header))
        cells = [self._cell(table, name, entry, (*path, name)) for name, entry in table_map.columns.items()]
        for cell in filter(None, cells):
            if cell.header.removeprefix(OUTSIDE) == MEMBER and not table_map.rows:
                complaint = f'"{cell.header}" is a member of the list that rows names, and rows is not set'
                self.document.fault((*path, cell.column.name), complaint, 'like rows = "Methods"')
        known = [cell for cell in cells if cell is not None]
        separator = table_map.separator or self.settings.list_separator
        own = [cell.none for cell in known if cell.header == table_map.only_with]
        nothing = _folded(self.settings.none).union(*own)
        only_with, missing = table_map.only_with, table_map.missing
        return RowMap(table, known, table_map.rows, separator, only_with, missing, nothing)

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
        if cell.from_ and self.header_fault(cell.from_):
            self.document.fault(path, self.header_fault(cell.from_))
        self._fits(column, cell, path)
        return Cell(column, cell, self.settings, self.clock.key)

    def _fits(self, column: Column, cell: CellMap, path: Path) -> None:
        """An option that means nothing for this type of fact is a mistake, not something to pass over."""
        of_kind: dict[str, tuple[Kind, ...]] = {
            "true": (Kind.FLAG,),
            "false": (Kind.FLAG,),
            "words": (Kind.WORD, Kind.WORDS),
            "otherwise": (Kind.WORD,),
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
        if cell.unit and cell.unit not in SPAN_UNITS:
            hint = did_you_mean(cell.unit, SPAN_UNITS) or f"there are: {', '.join(SPAN_UNITS)}"
            self.document.fault((*path, "unit"), f'"{cell.unit}" is no unit of time', hint)
        for key, word in [*cell.words.items(), ("otherwise", cell.otherwise)]:
            if word and column.words and word not in column.words:
                place = (*path, "otherwise") if key == "otherwise" else (*path, "words", key)
                hint = did_you_mean(word, column.words) or f"there are: {', '.join(column.words)}"
                self.document.fault(place, f'"{word}" is none of the words of {column.name}', hint)
        if cell.always is not None:
            self._always(column, cell.always, path)
        self._dates(cell, path)

    def _always(self, column: Column, value: Any, path: Path) -> None:
        types: dict[Kind, type] = {
            Kind.FLAG: bool,
            Kind.COUNT: int,
            Kind.TEXT: str,
            Kind.WORD: str,
            Kind.WORDS: list,
        }
        wanted = types.get(column.kind)
        if wanted is None or not isinstance(value, wanted) or (wanted is int and isinstance(value, bool)):
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


def _fold(word: str) -> str:
    return word.strip().casefold()


def _folded(words: Iterable[str]) -> frozenset[str]:
    return frozenset(map(_fold, words))
