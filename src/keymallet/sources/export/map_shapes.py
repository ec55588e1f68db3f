"""A column map as it stands in its file: the shapes of its sections, and the words that it knows."""

from __future__ import annotations

from typing import Any, Literal

import msgspec

from keymallet.sources.sections import KindWord

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
TRUE_WORDS = ("true", "yes", "y", "1", "on")
FALSE_WORDS = ("false", "no", "n", "0", "off")
FILE_NAME = "@file"
"""The name of the column that holds the name of the file, without its ending."""
SPAN_UNITS = {"days": "d", "hours": "h", "minutes": "min", "seconds": "s"}
"""What a bare number of a length of time may be in, and how such a length is written."""


class CellMap(msgspec.Struct, rename="kebab", frozen=True):
    """How one fact is written. What is not said here is taken from the map's own defaults.

    Of several columns, what stands there is put together, with `join` between. `pattern` is a regular
    expression of which the first group is the value. `empty` is what an empty cell means.
    """

    from_: str | list[str] = msgspec.field(name="from", default="")
    join: str = " "
    pattern: str = ""
    empty: bool | str | None = None
    always: Any = None
    true: list[str] | None = None
    false: list[str] | None = None
    words: dict[str, str] = {}
    otherwise: bool | str = ""
    separator: str = ""
    formats: list[str] | None = None
    zone: str | None = None
    plain: str | None = None
    unit: str = ""
    none: list[str] | None = None
    unknown: list[str] | None = None
    by: str = ""
    ignore_case: bool = False


class TableMap(msgspec.Struct, rename="kebab", frozen=True):
    """One table: its columns, and the facts that the system has no notion of (`absent`).

    `rows` is the list in each record whose members are the rows, `separator` what stands between them in a
    cell; `missing` is what it means that a record does not mention it. `only_with` leaves out records in
    which nothing stands there; `only_where` those in which one of its columns has another word, `leave_out`
    those in which one has such a word. Where a file has not all of `if_columns`, the part is not for it.
    """

    columns: dict[str, str | CellMap]
    absent: list[str] = []
    rows: str = ""
    separator: str = ""
    only_with: str = ""
    only_where: dict[str, str | list[str]] = {}
    leave_out: dict[str, str | list[str]] = {}
    if_columns: list[str] = []
    missing: Literal["unknown", "none"] = "unknown"
    as_of: str | CellMap = ""


class FileSettings(msgspec.Struct, rename="kebab", frozen=True):
    """How some of the files are written: those whose path fits `name`, a pattern."""

    name: str
    read: Literal["", "csv", "json", "text"] = ""
    encoding: str | None = None
    separator: str | None = None
    header_line: int | None = None


class Dates(msgspec.Struct, rename="kebab", frozen=True):
    """How dates are written throughout."""

    formats: tuple[str, ...] = ("iso",)
    zone: str | None = None
    zones: dict[str, str] = {}
    plain: str | None = None


class GivesText(msgspec.Struct, rename="kebab", frozen=True):
    """What the target gives to accounts of one sort; see `core.vetting.target.Gives`."""

    units: tuple[str, ...] = ()
    kinds: tuple[KindWord, ...] = ()
    titles: tuple[str, ...] = ()
    groups: tuple[str, ...] | None = None
    entitlements: tuple[str, ...] | None = None
    more: bool = False


class TargetText(msgspec.Struct, rename="kebab", frozen=True):
    """The system that a batch of planned accounts is for; see `core.vetting.target.Target`."""

    source: str = ""
    required: tuple[str, ...] = ()
    name_pattern: str = ""
    longest: dict[str, int] = {}
    characters: dict[str, str] = {}
    ordered_by: str = ""
    gives: tuple[GivesText, ...] = ()


class ColumnMapText(msgspec.Struct, rename="kebab", frozen=True):
    """A column map as it stands in its file; the tables stand beside these under their own names."""

    title: str = ""
    encoding: str | None = None
    separator: str | None = None
    header_line: int | None = None
    file: list[FileSettings] = []
    positions: dict[str, str] = {}
    ordered_by: str = ""
    records: str = ""
    list_separator: str = ";"
    dates: Dates = Dates()
    true: tuple[str, ...] = TRUE_WORDS
    false: tuple[str, ...] = FALSE_WORDS
    none: list[str] = []
    unknown: list[str] = []
    absent: list[str] = []
    target: TargetText = TargetText()
