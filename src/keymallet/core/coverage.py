"""What the cases of a rulebook leave untried: comparisons never seen true, or never seen false."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from keymallet.core import facts
from keymallet.core.cases import Outcome
from keymallet.core.language import typed
from keymallet.core.language.typed import Typed
from keymallet.core.rulebook import Demand, Rule, Rulebook, Tally


@dataclass(frozen=True, slots=True)
class Untried:
    """A comparison of a rule, and which truth no case has shown."""

    rule: str
    text: str
    never: bool


def comparisons(table: str, node: Typed) -> Iterator[tuple[str, Typed]]:
    """The smallest conditions that were written, each with the table it is asked of.

    What is in the definition of a fact was not written in the rulebook, and is no part of it.
    """
    match node:
        case typed.Junction() | typed.Not():
            for part in node.parts:
                yield from comparisons(table, part)
        case typed.Term():
            if node.type.kind is facts.Kind.FLAG:
                yield from comparisons(table, node.body)
        case typed.OfOwner():
            yield from comparisons(node.owner, node.body)
        case typed.Ask(condition=Typed()) if node.type.kind is facts.Kind.FLAG:
            assert node.condition is not None
            yield from comparisons(node.table, node.condition)
        case typed.Const():
            return
        case _:
            yield table, node
            for part in node.parts if isinstance(node, typed.Compare) else ():
                if isinstance(part, typed.Ask) and part.condition is not None:
                    yield from comparisons(part.table, part.condition)


def untried(rulebook: Rulebook, outcomes: Iterable[Outcome]) -> list[Untried]:
    """Every comparison that no case of its rule has seen true, or false; in the order of the rulebook."""
    by_rule: dict[str, list[Outcome]] = {}
    for outcome in outcomes:
        by_rule.setdefault(outcome.case.rule, []).append(outcome)
    found = []
    for demand in rulebook.demands:
        asked = dict.fromkeys(each for table, node in _written(demand) for each in comparisons(table, node))
        for table, node in asked:
            seen = {
                truth
                for outcome in by_rule.get(demand.id, ())
                for truth in outcome.judgement.workspace.work_out(table, [node])[0].drop_nulls().to_list()
            }
            found += [Untried(demand.id, node.text, never) for never in (True, False) if never not in seen]
    return found


def _written(demand: Demand) -> Iterator[tuple[str, Typed]]:
    if isinstance(demand, Rule):
        yield demand.table, demand.who
        yield demand.table, demand.must
    if isinstance(demand, Tally):
        yield demand.table, demand.count
