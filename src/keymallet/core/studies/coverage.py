"""What the cases of a rulebook leave untried: comparisons never seen true, or never seen false."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from keymallet.core.facts.model import Kind
from keymallet.core.language import typed
from keymallet.core.language.typed import Typed
from keymallet.core.rulebook.model import Rulebook
from keymallet.core.studies.cases import Outcome


@dataclass(frozen=True, slots=True)
class Untried:
    """A comparison of a rule or a term, and which truth no case has shown."""

    where: str
    text: str
    never: bool


@dataclass(frozen=True, slots=True)
class _Comparison:
    """One of the smallest conditions that were written: in which rule or term, of which table."""

    where: str
    table: str
    node: Typed


def _comparisons(where: str, table: str, node: Typed) -> Iterator[_Comparison]:
    """The comparisons of an expression. What defines a fact was not written in the rulebook."""
    match node:
        case typed.BoolOp() | typed.Not():
            for part in node.parts:
                yield from _comparisons(where, table, part)
        case typed.Term():
            if node.type.kind is Kind.FLAG:
                yield from _comparisons(f"term {node.name}", table, node.body)
        case typed.OfOwner():
            yield from _comparisons(where, node.owner, node.body)
        case typed.RowQuery(condition=Typed()) if node.type.kind is Kind.FLAG:
            assert node.condition is not None
            yield from _comparisons(where, node.table, node.condition)
        case typed.Const():
            return
        case _:
            yield _Comparison(where, table, node)
            for part in node.parts if isinstance(node, typed.Compare) else ():
                if isinstance(part, typed.RowQuery) and part.condition is not None:
                    yield from _comparisons(where, part.table, part.condition)


def untried(rulebook: Rulebook, outcomes: Iterable[Outcome]) -> list[Untried]:
    """Every comparison that no case has seen true, or false; in the order of the rulebook.

    One of a rule has to be tried by the cases of that rule, one of a term by those of any rule that uses it.
    """
    by_rule: dict[str, list[Outcome]] = {}
    for outcome in outcomes:
        by_rule.setdefault(outcome.case.rule, []).append(outcome)
    seen: dict[_Comparison, set[bool]] = {}
    for demand in rulebook.demands:
        for node in demand.expressions:
            for comparison in _comparisons(demand.id, demand.table, node):
                truths = seen.setdefault(comparison, set())
                for outcome in by_rule.get(demand.id, ()):
                    truths |= _truths(outcome, comparison)
    return [
        Untried(comparison.where, comparison.node.text, never)
        for comparison, truths in seen.items()
        for never in (True, False)
        if never not in truths
    ]


def _truths(outcome: Outcome, comparison: _Comparison) -> set[bool]:
    return set(
        outcome.judgement.context.work_out(comparison.table, [comparison.node])[0].drop_nulls().to_list()
    )
