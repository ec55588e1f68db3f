"""The typed tree: what an expression resolved to.

Nodes compare by meaning, so a question asked by ten rules is one question when judged. `text` is
how it was written, kept for explanations.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field, fields, replace
from datetime import datetime, timedelta
from functools import cached_property

from keymallet.core.facts.declaration import TABLES
from keymallet.core.facts.model import Column, Kind


@dataclass(frozen=True, slots=True)
class ValueType:
    """The type of a value: its kind, and for words of a closed set which ones there are."""

    kind: Kind
    words: tuple[str, ...] = ()

    def __str__(self) -> str:
        """Give the type as a person would name it."""
        return _SPOKEN[self.kind]


_SPOKEN = {
    Kind.FLAG: "a yes or no",
    Kind.COUNT: "a number",
    Kind.TEXT: "text",
    Kind.WORD: "a word",
    Kind.WORDS: "a list of words",
    Kind.INSTANT: "an instant",
    Kind.SPAN: "a length of time",
}

FLAG = ValueType(Kind.FLAG)
COUNT = ValueType(Kind.COUNT)
TEXT = ValueType(Kind.TEXT)
INSTANT = ValueType(Kind.INSTANT)
SPAN = ValueType(Kind.SPAN)


def type_of(value: bool | int | float | str | timedelta | datetime) -> ValueType:
    """The type of a literal."""
    if isinstance(value, bool):
        return FLAG
    if isinstance(value, int | float):
        return COUNT
    if isinstance(value, timedelta):
        return SPAN
    return INSTANT if isinstance(value, datetime) else TEXT


@dataclass(frozen=True)
class Typed:
    """What every node has."""

    type: ValueType
    text: str = field(compare=False)

    @property
    def parts(self) -> tuple[Typed, ...]:
        """The nodes directly below, in the order they are declared."""
        held = (getattr(self, member.name) for member in fields(self))
        listed = (value if isinstance(value, tuple) else (value,) for value in held)
        return tuple(value for values in listed for value in values if isinstance(value, Typed))

    def walk(self) -> Iterator[Typed]:
        """Every node of the tree, this one first."""
        yield self
        for part in self.parts:
            yield from part.walk()


@dataclass(frozen=True)
class Faulty(Typed):
    """What could not be understood, and has said so where it stands: nothing more is said of its uses."""


@dataclass(frozen=True)
class Const(Typed):
    """A literal, a bare word, or the value of a limit (then `limit` is its name)."""

    value: bool | int | float | str | timedelta | datetime
    limit: str = ""


@dataclass(frozen=True)
class ConstList(Typed):
    """A list of words or texts, or a limit that holds one."""

    values: tuple[str | int | float, ...]
    limit: str = ""


@dataclass(frozen=True)
class PerPopulation(Typed):
    """A limit that is another for some: the value of the first population the row is in, else `default`."""

    limit: str
    default: Const
    populations: tuple[Typed, ...]
    values: tuple[Const, ...]


@dataclass(frozen=True)
class At(Typed):
    """The instant judged at."""


@dataclass(frozen=True)
class Fact(Typed):
    """A column of the subject, as the source gave it."""

    table: str
    column: Column


@dataclass(frozen=True)
class Derived(Typed):
    """A column of the subject that is worked out by its own definition, `body`."""

    fact: Fact
    body: Typed


@dataclass(frozen=True)
class Term(Typed):
    """A term of the rulebook, resolved for the subject at hand."""

    name: str
    body: Typed


@dataclass(frozen=True)
class OfOwner(Typed):
    """Something about the account or person that the row at hand, one of `table`, belongs to.

    With `to`, about the one row of that table instead that is in force for an account.
    """

    table: str
    body: Typed
    to: str = ""

    @property
    def owner(self) -> str:
        """The table that the row asked about is of."""
        return self.to or TABLES[self.table].owner

    @property
    def link(self) -> str:
        """The column that says which row that is."""
        return f"{self.owner}-row"


@dataclass(frozen=True)
class Not(Typed):
    """Kleene's negation."""

    operand: Typed


@dataclass(frozen=True)
class BoolOp(Typed):
    """Kleene's `and` and `or`."""

    word: str
    members: tuple[Typed, ...]


@dataclass(frozen=True)
class Compare(Typed):
    """`=`, `!=`, `<`, `<=`, `>`, `>=` on two values of one type."""

    operator: str
    left: Typed
    right: Typed

    @property
    def parts(self) -> tuple[Typed, ...]:
        """The two sides; and their bounds, where how many rows there are may be known only in part."""
        return (*super().parts, *(part for side in self.bounds for part in side))

    @cached_property
    def bounds(self) -> tuple[tuple[Typed, Typed], ...]:
        """The least and the most that each side can be, where rows are counted; else nothing."""
        sides = (self.left, self.right)
        if not any(_counts_rows(side) for side in sides):
            return ()
        return tuple((bound(side, "fewest"), bound(side, "most")) for side in sides)


@dataclass(frozen=True)
class Within(Typed):
    """Whether a value is one of a list."""

    operand: Typed
    choices: ConstList
    negated: bool

    @property
    def parts(self) -> tuple[Typed, ...]:
        """The value and the list; and the value's bounds, where it is a number of rows."""
        return (*super().parts, *self.bounds)

    @cached_property
    def bounds(self) -> tuple[Typed, ...]:
        """The least and the most that the value can be, where rows are counted; else nothing."""
        if not _counts_rows(self.operand):
            return ()
        return bound(self.operand, "fewest"), bound(self.operand, "most")


@dataclass(frozen=True)
class Includes(Typed):
    """Whether a list holds one, any or all of the wanted words."""

    operand: Typed
    mode: str
    wanted: Typed


@dataclass(frozen=True)
class Pattern(Typed):
    """Whether a text matches; `regex` is anchored for `like`."""

    operand: Typed
    word: str
    pattern: str
    regex: str


@dataclass(frozen=True)
class Known(Typed):
    """Whether a fact is known; unknown itself where no source supplied it."""

    operand: Fact | Derived
    negated: bool


@dataclass(frozen=True)
class Call(Typed):
    """A function of the language.

    Of one that leaves out what is none, `nones` says of each argument whether it is known to be none.
    """

    function: str
    arguments: tuple[Typed, ...]
    nones: tuple[Typed, ...] = ()


@dataclass(frozen=True)
class AddSub(Typed):
    """`+` and `-` on instants, spans and numbers."""

    operator: str
    left: Typed
    right: Typed


@dataclass(frozen=True)
class RowQuery(Typed):
    """A question about the rows of `table` that belong to the row at hand.

    `latest` and `earliest` ask for a `column` of those rows; their condition says that it is known.
    `count` is not known where it is not known of a row whether it counts; `fewest` and `most`, which have no
    words in the language, are what it can be at least and at most.
    """

    question: str
    table: str
    condition: Typed | None
    column: Column | None = None


@dataclass(frozen=True)
class Unshared(Typed):
    """Whether no row of another account, of those that `who` is true of, has the same value of `fact`.

    Of tables that belong to no account, whether no other row has it. With `within_source`, rows of other
    sources do not matter.
    """

    table: str
    fact: Fact
    who: Typed
    within_source: bool = False


_OPPOSITE = {"fewest": "most", "most": "fewest"}


def _counts_rows(node: Typed) -> bool:
    match node:
        case RowQuery():
            return node.question == "count"
        case OfOwner() | Term():
            return _counts_rows(node.body)
        case AddSub():
            return _counts_rows(node.left) or _counts_rows(node.right)
        case Call(function="least" | "greatest"):
            return any(map(_counts_rows, node.arguments))
        case _:
            return False


def bound(node: Typed, which: str) -> Typed:
    """The `fewest` or the `most` that a number can be: with rows counted that surely, or perhaps, count."""
    if not _counts_rows(node):
        return node
    match node:
        case RowQuery():
            return replace(node, question=which)
        case OfOwner() | Term():
            return replace(node, body=bound(node.body, which))
        case AddSub():
            other = which if node.operator == "+" else _OPPOSITE[which]
            return replace(node, left=bound(node.left, which), right=bound(node.right, other))
        case Call():
            return replace(node, arguments=tuple(bound(argument, which) for argument in node.arguments))
    raise AssertionError(node)


def limit_of(node: Typed) -> str:
    """The name of the limit that a node is; empty if it is none."""
    return node.limit if isinstance(node, Const | ConstList | PerPopulation) else ""
