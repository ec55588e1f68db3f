"""What a fact table is made of: the types of facts, columns and tables."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum
from functools import cached_property


class Kind(Enum):
    """The types a fact can have. Every column may also be unknown."""

    FLAG = "flag"  # enabled: true or false
    COUNT = "count"  # failed-attempts: 3
    TEXT = "text"  # name: 'a.tannleitner'
    WORD = "word"  # kind: person, one of a closed set
    WORDS = "words"  # groups: a list
    INSTANT = "instant"  # ends: a point in time, UTC, microseconds
    SPAN = "span"  # max-age: a length of time

    @property
    def is_ordered(self) -> bool:
        """Whether `<` and `>` mean something (`ends < 2027-01-01`)."""
        return self in (Kind.COUNT, Kind.INSTANT, Kind.SPAN)


class Derivation(Enum):
    """How a derived column relates to what the source said under the same name."""

    UNLESS_KNOWN = "unless the source says so itself"
    ALWAYS = "always worked out"


@dataclass(frozen=True, slots=True)
class Column:
    """One fact of a table.

    `past` marks an instant of something that has happened: one after the reading is impossible.
    `closes` marks the first instant at which something no longer holds, so that a plain date
    needs saying whether the day itself still counts. `secret` marks what a secret may stand beside in a
    source, or in its place: what could not be understood there is never quoted. `across` marks what only
    shows when all sources lie side by side: no source gives it. `said` is how it is spoken: see `phrases`.
    `beside` names the facts of the same table that say why it is as it is, and are told with it.
    """

    name: str
    kind: Kind
    meaning: str
    words: tuple[str, ...] = ()
    past: bool = False
    closes: bool = False
    secret: bool = False
    across: bool = False
    definition: str = ""
    derivation: Derivation = Derivation.UNLESS_KNOWN
    said: str = ""
    beside: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class KnownBy:
    """The columns by which a row of a table is known again later.

    These are `always`, and `own`, its id, or where that is not known `otherwise`. None of them changes while
    the row stays what it is.
    """

    always: tuple[str, ...] = ()
    own: str = ""
    otherwise: tuple[str, ...] = ()


@dataclass(frozen=True)
class Table:
    """One fact table. `owner` is the table whose rows its rows belong to, or empty.

    `label` names the columns that tell one row of an owner from another in messages; `told_by` the fact
    that each row has to have, if that is not the first. `across`: no source gives its rows, they are worked
    out when all sources lie side by side. `said` is what one of its rows is called, and several; `listed_as`
    leads a list of them. `known_by` is how a row of an owner is known again later; for accounts, `stable-id`.
    """

    name: str
    meaning: str
    columns: tuple[Column, ...]
    owner: str = "account"
    label: tuple[str, ...] = ()
    told_by: str = ""
    across: bool = False
    said: str = ""
    listed_as: str = "on record"
    known_by: KnownBy = KnownBy()

    def column(self, name: str) -> Column | None:
        """Return the column of that name, or None."""
        return self._by_name.get(name)

    @cached_property
    def _by_name(self) -> dict[str, Column]:
        return {column.name: column for column in self.columns}

    @property
    def required(self) -> str:
        """The fact without which there is no row: an account's name, the account of a key."""
        return self.told_by or self.columns[0].name

    @property
    def of_account(self) -> bool:
        """Whether each row belongs to an account, named in the first column."""
        return self.owner == "account"

    @property
    def names(self) -> tuple[str, ...]:
        """The names of all columns, in order."""
        return tuple(column.name for column in self.columns)
