"""Typed tree to Polars expression. Polars' own nulls carry Kleene's unknown through `&`, `|`, `~`."""

from __future__ import annotations

import functools
import operator
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.facts.declaration import ACCOUNT, TABLES
from keymallet.core.facts.evidence import INSTANT, NOTHING_KNOWN, UNREAD, Evidence, source_column
from keymallet.core.facts.model import Derivation, Kind
from keymallet.core.language import typed
from keymallet.core.language.functions import FUNCTIONS, Operands
from keymallet.core.language.typed import Typed

COMPARISONS: dict[str, Callable[[pl.Expr, pl.Expr], pl.Expr]] = {
    "=": operator.eq,
    "!=": operator.ne,
    "<": operator.lt,
    "<=": operator.le,
    ">": operator.gt,
    ">=": operator.ge,
}
UNKNOWN = pl.lit(None, dtype=pl.Boolean)
AT = "@"
"""Column of the instants judged at, where they differ from row to row."""


@dataclass(frozen=True)
class Lowering:
    """Turns typed trees into expressions over the frame of their table.

    `placed` names the columns in which answers that were worked out beforehand stand: questions
    about rows, and facts of the account or person that a row belongs to. Without `at`, each row is
    judged at its own instant, which stands in the column AT. With `masked`, what had not happened yet
    at the instant judged is not known.
    """

    evidence: Evidence
    at: datetime | None
    clock: ZoneInfo
    placed: Mapping[Typed, str]
    masked: bool

    def lower(self, node: Typed) -> pl.Expr:
        """The expression that works out `node` for every row at once."""
        match node:
            case typed.Const():
                return self._constant(node)
            case typed.At():
                return self.now
            case typed.Fact():
                return self._fact(node)
            case typed.Derived():
                return self._derived(node)
            case typed.Term():
                return self.lower(node.body)
            case typed.OfOwner() | typed.RowQuery() | typed.Unshared():
                return pl.col(self.placed[node])
            case typed.PerPopulation():
                return self._per_population(node)
            case typed.Not():
                return ~self.lower(node.operand)
            case typed.BoolOp():
                join = operator.and_ if node.word == "and" else operator.or_
                return functools.reduce(join, map(self.lower, node.members))
            case typed.Compare():
                return self._compare(node)
            case typed.Within():
                return self._within(node)
            case typed.Includes():
                return self._includes(node)
            case typed.Pattern():
                return self._pattern(node)
            case typed.Known():
                return self._known(node)
            case typed.Call():
                return self._call(node)
            case typed.AddSub():
                left, right = self.lower(node.left), self.lower(node.right)
                return left + right if node.operator == "+" else left - right
            case _:
                raise AssertionError(node)

    @property
    def now(self) -> pl.Expr:
        """The instant judged at."""
        return pl.col(AT) if self.at is None else _literal(self.at, INSTANT)

    def _constant(self, node: typed.Const) -> pl.Expr:
        value = node.value
        if isinstance(value, datetime):
            if value.tzinfo is None:
                value = value.replace(tzinfo=self.clock)
            return _literal(value.astimezone(ZoneInfo("UTC")), INSTANT)
        if node.type.kind is Kind.SPAN:
            return _literal(value, pl.Duration("us"))
        if node.type.kind is Kind.WORD and node.type.words:
            return _literal(value, pl.Enum(node.type.words))
        return _literal(value)

    def _per_population(self, node: typed.PerPopulation) -> pl.Expr:
        value = self.lower(node.default)
        for population, own in zip(reversed(node.populations), reversed(node.values), strict=True):
            belongs = self.lower(population)
            # Where it is not known whether somebody belongs, it is not known what holds for them.
            value = pl.when(belongs).then(self.lower(own)).when(~belongs).then(value)
        return value

    def _fact(self, node: typed.Fact) -> pl.Expr:
        column = pl.col(node.column.name)
        if node.column.past and self.masked:
            return pl.when(column <= self.now).then(column)
        return column

    def _derived(self, node: typed.Derived) -> pl.Expr:
        worked_out = self.lower(node.body)
        if node.fact.column.derivation is Derivation.ALWAYS:
            return worked_out
        return pl.coalesce(self.lower(node.fact), worked_out)

    def _compare(self, node: typed.Compare) -> pl.Expr:
        compare = COMPARISONS[node.operator]
        if _is_source(node.left) and isinstance(node.right, typed.Const):
            wanted = str(node.right.value)
            return self._among_sources(lambda source: (source == wanted) == (node.operator == "="))
        if node.bounds:
            (least, most), (other_least, other_most) = (
                (self.lower(low), self.lower(high)) for low, high in node.bounds
            )
            return _decided(node.operator, least, most, other_least, other_most)
        return compare(self.lower(node.left), self.lower(node.right))

    def _within(self, node: typed.Within) -> pl.Expr:
        values = node.choices.values
        if _is_source(node.operand):
            return self._among_sources(lambda source: (source in values) != node.negated)
        if node.bounds:
            least, most = (self.lower(side) for side in node.bounds)
            # Of the whole numbers that it can be: all in the list, or none.
            whole = {int(value) for value in values if float(value).is_integer()}
            hits = [pl.lit(value).is_between(least, most) for value in sorted(whole)]
            listed = pl.sum_horizontal(hits) if hits else pl.lit(0)
            inside = (
                pl.when(listed == most - least + 1)
                .then(True)
                .when(listed == 0)
                .then(False)
                .otherwise(UNKNOWN)
            )
            inside = pl.when(most.is_not_null()).then(inside)
            return ~inside if node.negated else inside
        operand, dtype = self.lower(node.operand), _list_type(node.operand)
        inside = operand.cast(dtype).is_in(pl.Series(values, dtype=dtype).implode())
        return ~inside if node.negated else inside

    def _includes(self, node: typed.Includes) -> pl.Expr:
        held = self.lower(node.operand)
        if isinstance(node.wanted, typed.ConstList):
            tests = [held.list.contains(pl.lit(value)) for value in node.wanted.values]
            join = operator.or_ if node.mode == "any" else operator.and_
            if tests:
                return functools.reduce(join, tests)
            return pl.when(held.is_not_null()).then(pl.lit(node.mode == "all"))
        if isinstance(node.wanted, typed.Const):
            return held.list.contains(pl.lit(str(node.wanted.value)))
        wanted = self.lower(node.wanted).cast(pl.String)
        return pl.when(wanted.is_not_null()).then(held.list.contains(wanted))

    def _pattern(self, node: typed.Pattern) -> pl.Expr:
        if _is_source(node.operand):
            names = pl.Series(self.evidence.sources, dtype=pl.String)
            matching = set(names.filter(names.str.contains(node.regex)).to_list())
            return self._among_sources(lambda source: source in matching)
        return self.lower(node.operand).str.contains(node.regex)

    def _among_sources(self, test: Callable[[str], bool]) -> pl.Expr:
        """A test on the source's name, asked once for each source instead of for each row."""
        return self.is_source_of(ACCOUNT.name, [source for source in self.evidence.sources if test(source)])

    def is_source_of(self, table: str, sources: list[str]) -> pl.Expr:
        """Whether a row came from one of these sources."""
        everybody = self.evidence.sources
        if len(sources) in (0, len(everybody)):
            return _literal(bool(sources), pl.Boolean())
        return _is_one_of(source_column(TABLES[table]), tuple(sources), tuple(everybody))

    def _known(self, node: typed.Known) -> pl.Expr:
        known = self.lower(node.operand).is_not_null()
        if isinstance(node.operand, typed.Fact):
            table, name = node.operand.table, node.operand.column.name
            supplied = self.is_source_of(table, self.evidence.suppliers(table, name))
            if UNREAD in self.evidence.tables[table].columns:
                supplied = supplied & ~is_unread(name)
            # What happened only after the instant judged at was something else before: not none.
            later = pl.col(name).is_not_null()
            known = pl.when(known).then(True).when(supplied & ~later).then(False).otherwise(UNKNOWN)
        return ~known if node.negated else known

    def _call(self, node: typed.Call) -> pl.Expr:
        values = tuple(map(self.lower, node.arguments))
        kinds = tuple(argument.type.kind for argument in node.arguments)
        nones = tuple(self.lower(none) for none in node.nones)
        return FUNCTIONS[node.function].lower(Operands(values, kinds, self.now, self.clock, nones))


# Expressions never change, and a rulebook asks for few different ones of these kinds, many times: making one
# of an instant takes as long as it takes a small estate to be judged by a rule.


@functools.lru_cache(maxsize=4096, typed=True)
def _literal(value: Any, kind: pl.DataType | None = None) -> pl.Expr:
    return pl.lit(value, dtype=kind)


@functools.lru_cache(maxsize=1024)
def _is_one_of(column: str, words: tuple[str, ...], of: tuple[str, ...]) -> pl.Expr:
    return pl.col(column).is_in(pl.Series(words, dtype=pl.Enum(of)).implode())


def _decided(
    operator: str, least: pl.Expr, most: pl.Expr, other_least: pl.Expr, other_most: pl.Expr
) -> pl.Expr:
    """A comparison of two numbers of which only bounds are known: decided as soon as these decide it."""
    match operator:
        case "<" | "<=":
            compare = COMPARISONS[operator]
            surely, surely_not = compare(most, other_least), ~compare(least, other_most)
        case ">" | ">=":
            compare = COMPARISONS[operator]
            surely, surely_not = compare(least, other_most), ~compare(most, other_least)
        case _:
            apart = (most < other_least) | (least > other_most)
            one = (least == most) & (other_least == other_most) & (least == other_least)
            surely, surely_not = (one, apart) if operator == "=" else (apart, one)
    return pl.when(surely).then(True).when(surely_not).then(False).otherwise(UNKNOWN)


def _list_type(operand: Typed) -> pl.DataType:
    """The type in which a value and the list it is looked up in meet."""
    if operand.type.kind is Kind.COUNT:
        return pl.Float64()  # a list may hold 2 and 2.5; counts are far below where this loses digits
    return pl.Enum(operand.type.words) if operand.type.words else pl.String()


def _is_source(node: Typed) -> bool:
    return isinstance(node, typed.Fact) and node.column.name == "source"


def is_unread(name: str) -> pl.Expr:
    """Whether a fact stood in the source and could not be read, or nothing of its row is known."""
    unread = pl.col(UNREAD)
    return (unread.list.contains(pl.lit(name)) | unread.list.contains(pl.lit(NOTHING_KNOWN))).fill_null(False)
