"""Where in time an expression can change: the flip instants of its own comparisons.

With the facts as they are, `age(issued) <= 90d` changes only at one instant for each row, which
can be computed from the row's facts: the two sides are straight lines over time, and change places
where they cross. What is computed here are *candidates*: instants at which the truth may change, and
outside of which it cannot. Whoever uses them judges at each.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cache

import polars as pl

from keymallet.core.facts.model import Kind
from keymallet.core.language import typed
from keymallet.core.language.functions import FUNCTIONS, InTime
from keymallet.core.language.lowering import Lowering
from keymallet.core.language.typed import Typed

_LINES = (Kind.INSTANT, Kind.SPAN)


def is_hop(node: Typed) -> bool:
    """Whether a node is answered from the rows of another table."""
    return isinstance(node, typed.OfOwner | typed.RowQuery | typed.Unshared)


def local(node: Typed) -> Iterator[Typed]:
    """The nodes asked of the row at hand itself; hops to other tables are given, but not what is in them."""
    yield node
    if not is_hop(node):
        for part in node.parts:
            yield from local(part)


@cache
def moves(node: Typed, masked: bool) -> bool:
    """Whether the value can change with time alone.

    With `masked`, facts of what has happened are unknown before they happened, and so move too.
    """
    if isinstance(node, typed.At):
        return True
    if isinstance(node, typed.Call) and FUNCTIONS[node.function].in_time.moves_by_itself:
        return True
    if isinstance(node, typed.Fact):
        return masked and node.column.past
    return any(moves(part, masked) for part in node.parts)


@dataclass(frozen=True, slots=True)
class Line:
    """`slope` times the instant judged at, plus `offset`; in microseconds."""

    slope: int
    offset: pl.Expr

    def plus(self, other: Line, sign: int = 1) -> Line:
        """The sum, or with sign -1 the difference, of two lines."""
        return Line(self.slope + sign * other.slope, self.offset + sign * other.offset)

    def times(self, factor: int) -> Line:
        """The line with all its values multiplied."""
        return Line(self.slope * factor, self.offset * factor)


_NOW = Line(1, pl.lit(0, dtype=pl.Int64))


def lines(node: Typed, raw: Lowering) -> list[Line]:
    """The straight lines that an instant or a length of time follows; several for `least`, `greatest`.

    `raw` lowers facts as they stand, known before their time or not.
    """
    match node:
        case typed.At():
            return [_NOW]
        case typed.Term():
            return lines(node.body, raw)
        case typed.PerPopulation():
            return [line for value in (node.default, *node.values) for line in lines(value, raw)]
        case typed.Call() if slope := FUNCTIONS[node.function].in_time.slope:
            # age(x) is now - x, until(x) is x - now.
            return [_NOW.plus(line, -1).times(slope) for line in lines(node.arguments[0], raw)]
        case typed.Call() if FUNCTIONS[node.function].in_time is InTime.FOLLOWS:
            return [line for argument in node.arguments for line in lines(argument, raw)]
        case typed.AddSub():
            sign = 1 if node.operator == "+" else -1
            pairs = itertools.product(lines(node.left, raw), lines(node.right, raw))
            return [left.plus(right, sign) for left, right in pairs]
        case _:
            return [Line(0, raw.lower(node).cast(pl.Int64))]


def crossings(node: typed.Compare, raw: Lowering) -> list[pl.Expr]:
    """The instants at which the two sides of a comparison change places, in microseconds of UTC."""
    if node.left.type.kind not in _LINES:
        return []
    instants = []
    for left, right in itertools.product(lines(node.left, raw), lines(node.right, raw)):
        slope = left.slope - right.slope
        if slope:
            instants += _changes(node.operator, right.offset - left.offset, slope)
    return instants


def _changes(operator: str, rise: pl.Expr, slope: int) -> list[pl.Expr]:
    """The first microseconds at which `slope * t OPERATOR rise` may have another truth than before."""
    # The lines meet at rise / slope, which may lie between two microseconds.
    after, at_or_after = rise // slope + 1, -((-rise) // slope)
    if operator in ("=", "!="):
        return [at_or_after, after]
    includes_meeting = (operator in ("<=", ">")) == (slope > 0)
    return [after] if includes_meeting else [at_or_after]


def clock_lines(node: Typed, raw: Lowering, masked: bool) -> list[Line]:
    """The lines of which the hour or the day of the week is asked, where they move with time."""
    return [
        line
        for part in local(node)
        if isinstance(part, typed.Call) and FUNCTIONS[part.function].in_time is InTime.TICKS
        for line in lines(part.arguments[0], raw)
        if line.slope and moves(part, masked)
    ]
