"""Rules that could not be judged at all, for want of facts that no source tells of."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field

from keymallet.core.facts.declaration import EXEMPTION, GATE, PERSON, TABLES
from keymallet.core.facts.evidence import Evidence
from keymallet.core.judging.judge import Judgement, RuleCount
from keymallet.core.language import typed
from keymallet.core.language.typed import Typed
from keymallet.core.rulebook.model import Rule, Rulebook

_ROSTER, _REGISTER = "a staff roster", "a register of exemptions"
_TABLES = {PERSON.name: _ROSTER, EXEMPTION.name: _REGISTER, GATE.name: "sign-in requirements (gate)"}
_FACTS = {
    "on-roster": _ROSTER,
    "tied-by": _ROSTER,
    "drilled": _REGISTER,
    "use-explained": _REGISTER,
    "watched": _REGISTER,
    "exempted-by": _REGISTER,
    "left-out-unregistered": _REGISTER,
    **dict.fromkeys(("covered-by", "left-out-by", "watched-by"), _TABLES[GATE.name]),
}
"""What is worked out side by side, and what it is worked out from."""


@dataclass(frozen=True, slots=True)
class Untold:
    """What no source tells of, the rules that rest on it, and how many verdicts they could not give."""

    what: tuple[str, ...]
    rules: tuple[str, ...]
    verdicts: int


def untold(judgement: Judgement) -> list[Untold]:
    """What keeps rules from being judged at all: the most verdicts first."""
    groups: dict[tuple[str, ...], list[RuleCount]] = {}
    for count in judgement.counts():
        what = what_is_untold(judgement, count)
        if what:
            groups.setdefault(what, []).append(count)
    found = [
        Untold(what, tuple(count.rule.id for count in counts), sum(count.unproven for count in counts))
        for what, counts in groups.items()
    ]
    return sorted(found, key=lambda each: (-each.verdicts, each.what))


def what_is_untold(judgement: Judgement, count: RuleCount) -> tuple[str, ...]:
    """What a rule rests on that no source tells of; empty if it was judged of anybody, or may yet be."""
    if not count.unproven or count.unproven != count.in_scope:
        return ()
    # Of a source that could not be read it is not known what it would tell of.
    if not all(judgement.evidence.supply.values()):
        return ()
    return tuple(dict.fromkeys(_missing(judgement.evidence, count.rule.expressions)))


@dataclass(slots=True)
class Resting:
    """The rules that rest on one table: how many, how much they weigh together, the topics of theirs.

    One of the next severity weighs as much as two.
    """

    rules: int = 0
    weight: int = 0
    topics: Counter[str] = field(default_factory=Counter)


def resting_on(book: Rulebook) -> dict[str, Resting]:
    """What rests on each table, or on what is worked out from it."""
    told_by = {_ROSTER: PERSON.name, _REGISTER: EXEMPTION.name, _TABLES[GATE.name]: GATE.name}
    found: dict[str, Resting] = {}
    for demand in book.demands:
        tables = {demand.table} if isinstance(demand, Rule) else set()
        for node in (part for expression in demand.expressions for part in _resting_on(expression)):
            if isinstance(node, typed.RowQuery):
                tables.add(node.table)
            elif isinstance(node, typed.Fact):
                worked_out = _FACTS.get(node.column.name)
                tables.add(told_by[worked_out] if worked_out else node.table)
        for table in tables:
            resting = found.setdefault(table, Resting())
            resting.rules += 1
            resting.weight += 1 << demand.severity
            resting.topics[demand.topic] += 1
    return found


def _missing(evidence: Evidence, expressions: tuple[Typed, ...]) -> Iterator[str]:
    for expression in expressions:
        for node in _resting_on(expression):
            if isinstance(node, typed.RowQuery) and not evidence.suppliers(node.table):
                yield _TABLES.get(node.table, f"{node.table}s")
            if not isinstance(node, typed.Fact) or node.column.definition:
                continue
            if not evidence.suppliers(node.table):
                yield _TABLES.get(node.table, f"{node.table}s")
            elif not evidence.suppliers(node.table, node.column.name):
                yield _FACTS.get(node.column.name, _named(node))


def _resting_on(node: Typed) -> Iterator[Typed]:
    """The nodes of an expression, but for what may be unknown and leaves it decided."""
    yield node
    if not (isinstance(node, typed.Call) and node.function == "surely"):
        for part in node.parts:
            yield from _resting_on(part)


def _named(node: typed.Fact) -> str:
    return node.column.name if node.table == "account" else f"{TABLES[node.table].name}.{node.column.name}"
