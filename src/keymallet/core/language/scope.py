"""What names in an expression may refer to besides facts: the rulebook's limits and terms."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from keymallet.core.language import typed
from keymallet.core.language.tree import Fault, Node
from keymallet.core.language.typed import Typed

Limit = typed.Const | typed.ConstList
Report = Callable[[Fault], None]


@dataclass(frozen=True, slots=True)
class Written:
    """An expression as written, parsed, with where to report its faults."""

    text: str
    node: Node
    report: Report


@dataclass
class Book:
    """The limits and terms of a rulebook, and which of them have been used and resolved so far.

    `populations` are the terms for which a limit has a value of its own, the first that fits first.
    """

    limits: Mapping[str, Limit] = field(default_factory=dict)
    terms: Mapping[str, Written] = field(default_factory=dict)
    populations: Mapping[str, tuple[tuple[str, typed.Const], ...]] = field(default_factory=dict)
    faulty_limits: frozenset[str] = frozenset()
    used_limits: set[str] = field(default_factory=set)
    used_terms: set[str] = field(default_factory=set)
    resolved: dict[tuple[str, str], Typed | None] = field(default_factory=dict)
    resolving: list[str] = field(default_factory=list)
    sizes: dict[int, int] = field(default_factory=dict)
