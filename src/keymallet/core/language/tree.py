"""The syntax tree: what was written, with where it stands.

Spans are left out of equality, so that two expressions written apart compare by meaning.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Literal as OneOf


@dataclass(frozen=True, slots=True)
class Span:
    """The characters of an expression from `start` up to, not including, `end`."""

    start: int
    end: int


@dataclass(frozen=True, slots=True)
class Node:
    """What every node has: the span it was written at."""

    span: Span = field(compare=False)


@dataclass(frozen=True, slots=True)
class Literal(Node):
    """`90d`, `3`, `'text'`, `true`, `2026-11-24`. A datetime without zone is in the estate's clock."""

    value: bool | int | float | str | timedelta | datetime


@dataclass(frozen=True, slots=True)
class Name(Node):
    """`kind`, `account.enabled`, `limit.key-age`, or a bare word of a closed set."""

    text: str


@dataclass(frozen=True, slots=True)
class ListOf(Node):
    """`[otp, passkey]`."""

    items: tuple[Node, ...]


@dataclass(frozen=True, slots=True)
class Not(Node):
    """`not enabled`."""

    operand: Node


@dataclass(frozen=True, slots=True)
class BoolOp(Node):
    """`a and b and c`, `a or b`."""

    word: OneOf["and", "or"]
    parts: tuple[Node, ...]


@dataclass(frozen=True, slots=True)
class Compare(Node):
    """`age(issued) <= 90d`."""

    operator: str
    left: Node
    right: Node


@dataclass(frozen=True, slots=True)
class Within(Node):
    """`kind in [guest, shared]`, `kind not in [...]`."""

    operand: Node
    choices: Node
    negated: bool


@dataclass(frozen=True, slots=True)
class Includes(Node):
    """`groups includes 'x'`, `proof includes any of [...]`, `proof includes all of [...]`."""

    operand: Node
    mode: OneOf["one", "any", "all"]
    wanted: Node


@dataclass(frozen=True, slots=True)
class Pattern(Node):
    """`name like 'adm-*'`, `name matches '^adm'`."""

    operand: Node
    word: OneOf["like", "matches"]
    pattern: str
    pattern_span: Span = field(compare=False)


@dataclass(frozen=True, slots=True)
class Known(Node):
    """`last-used is known`, `ends is unknown`."""

    operand: Node
    negated: bool


@dataclass(frozen=True, slots=True)
class Call(Node):
    """`age(issued)`."""

    function: str
    function_span: Span = field(compare=False)
    arguments: tuple[Node, ...] = ()


@dataclass(frozen=True, slots=True)
class AddSub(Node):
    """`ends - starts`, `asked + 8h`."""

    operator: OneOf["+", "-"]
    left: Node
    right: Node


@dataclass(frozen=True, slots=True)
class RowQuery(Node):
    """`some factor (…)`, `no key (…)`, `every grant (…)`, `count grant (…)`.

    `latest factor.last-used (…)` and `earliest …` name a `column` of the table as well.
    """

    question: OneOf["some", "no", "every", "count", "latest", "earliest"]
    table: str
    table_span: Span = field(compare=False)
    condition: Node | None = None
    column: str = ""


@dataclass(frozen=True, slots=True)
class Fault:
    """Something wrong with an expression: where, what, and at most one suggestion."""

    span: Span
    message: str
    hint: str = ""
