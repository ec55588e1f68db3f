"""What a source hands back: tables, what it supplies, and notes on everything that was not read."""

from __future__ import annotations

import hashlib
from collections import Counter
from collections.abc import Collection, Iterable, Iterator
from dataclasses import dataclass, field
from datetime import datetime
from itertools import islice
from typing import Protocol

import msgspec
import polars as pl

from keymallet.core.base.problems import Problem, in_one_line

MOST_DETAILS = 1_000
"""How many refusals are kept one by one for a table and kind; all are counted."""


NO_SUCH_THING = "the system has no such thing"
"""Where a fact stands of which a system has no notion: it is none, and known to be."""


def digest_of_record(record: bytes) -> str:
    """What tells later whether the very same record was refused again."""
    return hashlib.blake2b(record, digest_size=10).hexdigest()


class Refusal(msgspec.Struct, frozen=True):
    """One record or cell that was not read: where, and why.

    `record` is the digest of a record as it stood, empty where that is not known.
    """

    file: str
    line: int
    reason: str
    column: str = ""
    last_line: int = 0
    record: str = ""

    @property
    def lines(self) -> str:
        """The line, or the lines, it stands on."""
        return f"{self.line}-{self.last_line}" if self.last_line > self.line else str(self.line)


class FileRead(msgspec.Struct, frozen=True):
    """A file that was read: its path as the estate names it, its size and its digest (BLAKE3)."""

    path: str
    bytes: int
    digest: str


class TableIntake(msgspec.Struct):
    """How much of one table was read from one source.

    `strays` are rows that name an account which is not there; of their names, a few are kept. By the fact
    `stray_by`, most of them (`found_by`) would find theirs; "name" is the login name in other letters.
    """

    read: int = 0
    refused: int = 0
    unreadable: int = 0
    refusals: list[Refusal] = []
    unreadable_cells: list[Refusal] = []
    strays: int = 0
    stray_names: list[str] = []
    stray_by: str = ""
    found_by: int = 0

    def refuses_the_same_as(self, earlier: TableIntake) -> bool:
        """Whether each record that is refused here was refused in an earlier reading, just as it stands.

        Then whatever was read in that one and is missing now is not among them.
        """
        if self.refused > len(self.refusals) or any(not each.record for each in self.refusals):
            return False
        now, then = (Counter(each.record for each in part.refusals) for part in (self, earlier))
        return now <= then

    def refuse(self, refusal: Refusal) -> None:
        """Note a record that is left out."""
        self.refused += 1
        if len(self.refusals) < MOST_DETAILS:
            self.refusals.append(refusal)

    def add(self, other: TableIntake) -> None:
        """Add the notes on another part of the same table."""
        self.read += other.read
        self.refused += other.refused
        self.refusals.extend(other.refusals[: MOST_DETAILS - len(self.refusals)])
        self.cannot_read(other.unreadable, other.unreadable_cells)

    def cannot_read(self, count: int, details: Iterable[Refusal]) -> None:
        """Note cells whose record is kept, but whose fact is unknown."""
        self.unreadable += count
        self.unreadable_cells.extend(islice(details, MOST_DETAILS - len(self.unreadable_cells)))


class RowsOnDisk(Protocol):
    """The rows of a table on disk, in parts."""

    @property
    def height(self) -> int:
        """How many there are."""

    def parts(self, columns: Collection[str] | None = None) -> Iterator[pl.DataFrame]:
        """The rows, part by part; with `columns`, only those of them that a part has."""

    def let_go(self) -> None:
        """Remove them."""


@dataclass
class Reading:
    """One source, read. `supply` gives, by table and column, where in the source a fact stands.

    Accounts are known by their name here, which is unique in a source; the `account` column of the
    other tables holds such names. A source without accounts, such as a roster, has an empty table of
    them. `incomplete` says in words where a source stopped short of giving all it has.
    `failed` says why it could not be read at all, `problems` in full: its accounts, if any are known
    from before, are there with nothing known of them. `read_at` is when it was read, if that was not
    now; `as_of` when what it says was true, if that was not when it was read. `renamed` gives the new
    names of accounts by their old ones. `empty_files` are those with a header
    and no row; `referrals` parts of a source that another server has. `known` counts, by table and column,
    the values that are known (under "" the rows); `emptied` names the columns (and with "" the tables)
    that had values before and have none now; `shrunk` says how many rows the tables had that have less than
    half of them now. With `strays_expected`, rows that name no account of the source are nobody's and leave
    nothing open. Rows of a table that are too many to be held are `on_disk`: then `tables` has their columns,
    and no row.
    """

    source: str
    tables: dict[str, pl.DataFrame] = field(default_factory=dict)
    supply: dict[str, dict[str, str]] = field(default_factory=dict)
    intake: dict[str, TableIntake] = field(default_factory=dict)
    files: list[FileRead] = field(default_factory=list)
    remarks: list[str] = field(default_factory=list)
    incomplete: list[str] = field(default_factory=list)
    failed: str = ""
    problems: tuple[Problem, ...] = ()
    read_at: datetime | None = None
    as_of: datetime | None = None
    renamed: dict[str, str] = field(default_factory=dict)
    empty_files: list[str] = field(default_factory=list)
    referrals: list[str] = field(default_factory=list)
    known: dict[str, dict[str, int]] = field(default_factory=dict)
    emptied: dict[str, list[str]] = field(default_factory=dict)
    shrunk: dict[str, int] = field(default_factory=dict)
    strays_expected: bool = False
    on_disk: dict[str, RowsOnDisk] = field(default_factory=dict)

    @classmethod
    def not_read(cls, source: str, problems: tuple[Problem, ...]) -> Reading:
        """What stands for a source that could not be read: no account, and why."""
        nobody = pl.DataFrame(schema={"name": pl.String})
        why = "; ".join(map(in_one_line, problems))
        return cls(source, tables={"account": nobody}, failed=why, problems=problems)

    def height(self, table: str) -> int:
        """How many rows a table has, wherever they are."""
        if table in self.on_disk:
            return self.on_disk[table].height
        return self.tables[table].height if table in self.tables else 0

    def parts(self, table: str, columns: Collection[str] | None = None) -> Iterator[pl.DataFrame]:
        """The rows of a table, part by part; with `columns`, only those that are there."""
        if table in self.on_disk:
            yield from self.on_disk[table].parts(columns)
        elif table in self.tables:
            frame = self.tables[table]
            yield (
                frame if columns is None else frame.select(name for name in frame.columns if name in columns)
            )

    def hold(self) -> None:
        """Hold all rows that are on disk."""
        for table in list(self.on_disk):
            self.tables[table] = pl.concat([*self.parts(table)], how="diagonal")
            self.on_disk.pop(table).let_go()

    def table_intake(self, table: str) -> TableIntake:
        """The notes on one table, begun if need be."""
        return self.intake.setdefault(table, TableIntake())
