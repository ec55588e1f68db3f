"""Rules that cannot both be met: one asks of a fact what the other forbids."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from itertools import combinations, product
from typing import Any
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.evaluating.context import EvaluationContext
from keymallet.core.facts.declaration import ACCOUNT, TABLES
from keymallet.core.facts.evidence import Evidence, data_type, empty_frame
from keymallet.core.facts.model import Column, Kind
from keymallet.core.language import typed
from keymallet.core.language.typed import Typed
from keymallet.core.rulebook.model import Rule, Rulebook

_AT = datetime(2026, 1, 1, tzinfo=UTC)
_SOURCE = "any"
_MOST_ROWS = 5_000


@dataclass(frozen=True, slots=True)
class Contradiction:
    """Two rules on the same rows that no value of these facts can meet together."""

    one: Rule
    other: Rule
    facts: tuple[str, ...]


def contradictions(book: Rulebook) -> list[Contradiction]:
    """The pairs of rules on what is in force in systems that contradict each other.

    Looked at are rules for every row of one table that ask about figures, words and flags of that row alone;
    the values tried are those that the rules name, those just beside them, and none.
    """
    plain = [rule for rule in book.rules if _is_plain(rule)]
    return [
        Contradiction(one, other, tuple(column.name for column in columns))
        for one, other in combinations(plain, 2)
        if one.table == other.table and (columns := _shared(one, other)) and not _can_both_be_met(one, other)
    ]


def _is_plain(rule: Rule) -> bool:
    """Whether a rule is for every row of something in force, and rests on facts of that row alone."""
    of_row = (typed.RowQuery, typed.OfOwner, typed.Unshared, typed.At, typed.PerPopulation)
    for_all = isinstance(rule.who, typed.Const) and rule.who.value is True
    return (
        for_all and not TABLES[rule.table].owner and not any(isinstance(n, of_row) for n in rule.must.walk())
    )


def _facts(rule: Rule) -> dict[str, Column]:
    return {part.column.name: part.column for part in rule.must.walk() if isinstance(part, typed.Fact)}


def _shared(one: Rule, other: Rule) -> list[Column]:
    mine, theirs = _facts(one), _facts(other)
    return [column for name, column in mine.items() if name in theirs]


def _can_both_be_met(one: Rule, other: Rule) -> bool:
    columns = list((_facts(one) | _facts(other)).values())
    choices = [_candidates(column, [one.must, other.must]) for column in columns]
    rows = list(product(*choices))
    if not rows or len(rows) > _MOST_ROWS:
        return True
    table = TABLES[one.table]
    data = {
        column.name: pl.Series(column.name, values, dtype=data_type(column), strict=False)
        for column, values in zip(columns, zip(*rows, strict=True), strict=True)
    }
    frame = empty_frame(table)
    blank = {
        name: pl.Series(name, [None], dtype=dtype).new_from_index(0, len(rows))
        for name, dtype in frame.schema.items()
        if name not in data
    }
    source = pl.Series("source", [_SOURCE] * len(rows), dtype=pl.String)
    frame = pl.DataFrame([*data.values(), *blank.values()]).with_columns(source)
    supply = {_SOURCE: {table.name: dict.fromkeys(table.names, "tried")}}
    tables = {ACCOUNT.name: empty_frame(ACCOUNT), table.name: frame}
    context = EvaluationContext(Evidence(tables, supply, {_SOURCE: _AT}), _AT, ZoneInfo("UTC"))
    first, second = context.work_out(table.name, [one.must, other.must])
    return bool((first.fill_null(False) & second.fill_null(False)).any())


def _candidates(column: Column, musts: Sequence[Typed]) -> list[Any]:
    """Values of a fact that are worth trying: none, those that are named, and those just beside them."""
    match column.kind:
        case Kind.FLAG:
            return [None, True, False]
        case Kind.WORD:
            return [None, *column.words]
        case Kind.COUNT | Kind.SPAN:
            return [None, *sorted(set(_beside(column, musts)))]
        case _:
            return []


def _beside(column: Column, musts: Sequence[Typed]) -> Iterator[Any]:
    step: Any = timedelta(microseconds=1) if column.kind is Kind.SPAN else 1
    yield step - step
    for must in musts:
        for part in must.walk():
            if isinstance(part, typed.Const) and part.type.kind is column.kind:
                value: Any = part.value
                yield from (value - step, value, value + step)
