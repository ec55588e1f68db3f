"""The column map: which column of an export is which fact, and how its values are written."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from datetime import date, datetime
from fnmatch import fnmatchcase
from functools import cached_property
from typing import Any
from zoneinfo import ZoneInfo

import msgspec

from keymallet.core.facts.model import Column, Kind, Table
from keymallet.core.vetting.target import Target
from keymallet.sources.export.json_path import MEMBER
from keymallet.sources.export.lengths import parse_length
from keymallet.sources.export.map_shapes import FILE_NAME, SPAN_UNITS, CellMap, ColumnMapText, FileSettings


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
    def headers(self) -> tuple[str, ...]:
        """The columns it is read from; none where it is always the same."""
        from_ = self.own.from_
        return tuple(from_) if isinstance(from_, list) else (from_,) if from_ else ()

    @property
    def header(self) -> str:
        """What its column is called; several are put together. Empty where it is always the same."""
        return " + ".join(self.headers)

    @property
    def is_made_up(self) -> bool:
        """Whether its text is not simply what stands in one column."""
        return len(self.headers) != 1 or bool(self.own.pattern) or self.own.empty is not None

    @cached_property
    def pattern(self) -> re.Pattern[str] | None:
        """What the value is cut out with, if it is."""
        return re.compile(self.own.pattern) if self.own.pattern else None

    @property
    def always(self) -> Any:
        """The value of every row, if the map says one; a day is its first instant."""
        value = self.own.always
        if isinstance(value, date):
            written = value if isinstance(value, datetime) else datetime(value.year, value.month, value.day)
            return written if written.tzinfo else written.replace(tzinfo=ZoneInfo(self.zone))
        if self.column.kind is Kind.SPAN and isinstance(value, str):
            return parse_length(value)
        return value

    @cached_property
    def true(self) -> frozenset[str]:
        """Words for yes."""
        return folded(self.defaults.true if self.own.true is None else self.own.true)

    @cached_property
    def false(self) -> frozenset[str]:
        """Words for no."""
        return folded(self.defaults.false if self.own.false is None else self.own.false)

    @cached_property
    def words(self) -> dict[str, str]:
        """Words of the export, and which of ours each is."""
        return {fold(key): value for key, value in self.own.words.items()}

    @cached_property
    def own_words(self) -> dict[str, str]:
        """Our own words, which need no entry in a map; they are compared without regard to case as well."""
        return {fold(word): word for word in self.column.words}

    @property
    def otherwise(self) -> bool | str:
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
        return folded(self.defaults.none if self.own.none is None else self.own.none)

    @cached_property
    def unknown(self) -> frozenset[str]:
        """Words for its not being known."""
        return folded(self.defaults.unknown if self.own.unknown is None else self.own.unknown)

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
    only_where: Mapping[str, frozenset[str]] = field(default_factory=dict)
    leave_out: Mapping[str, frozenset[str]] = field(default_factory=dict)
    if_columns: tuple[str, ...] = ()
    as_of: Cell | None = None

    @property
    def asked(self) -> list[str]:
        """All columns of the file that it has to do with, each once."""
        cells = [*self.cells, *([self.as_of] if self.as_of else [])]
        named = [header for cell in cells for header in cell.headers]
        named += [self.rows, self.only_with, *self.only_where, *self.leave_out]
        return [name for name in dict.fromkeys(named) if name and name not in (MEMBER, FILE_NAME)]

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
    header_line: int | None
    files: list[FileSettings]
    positions: dict[str, tuple[int, int]]
    ordered_by: str
    records: str
    list_separator: str
    tables: dict[str, list[RowMap]]
    absent: dict[str, list[str]]
    absent_tables: list[str]
    target: Target

    def settings_of(self, path: str) -> FileSettings:
        """How a file is written: what is said of it, and of all files where nothing is."""
        named = (each for each in self.files if path == each.name or fnmatchcase(path, each.name))
        mine = next(named, FileSettings(path))
        return FileSettings(
            path,
            mine.read,
            mine.encoding or self.encoding,
            mine.separator or self.separator,
            self.header_line if mine.header_line is None else mine.header_line,
        )


def fold(word: str) -> str:
    """A word as it is compared: without regard to case."""
    return word.strip().casefold()


def folded(words: Iterable[str]) -> frozenset[str]:
    """Words as they are compared."""
    return frozenset(map(fold, words))
