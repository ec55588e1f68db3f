"""Expressions asked outside of a rulebook, with the rulebook's limits and terms at hand."""

from __future__ import annotations

from keymallet.core.base.problems import Excerpt, KeymalletError, Place, Problem
from keymallet.core.facts.model import Table
from keymallet.core.language.check import check_flag, check_value
from keymallet.core.language.parse import parse
from keymallet.core.language.scope import Book, Written
from keymallet.core.language.tree import Fault, Node
from keymallet.core.language.typed import Typed
from keymallet.core.rulebook.model import Rulebook


def read_condition(text: str, table: Table, rulebook: Rulebook, where: str) -> Typed:
    """A condition on the rows of a table. Raises KeymalletError with every fault; `where` names the place."""
    return _read(text, table, rulebook, where, flag=True)


def read_value(text: str, table: Table, rulebook: Rulebook, where: str) -> Typed:
    """An expression of any type. Raises KeymalletError with every fault; `where` names the place."""
    return _read(text, table, rulebook, where, flag=False)


def _read(text: str, table: Table, rulebook: Rulebook, where: str, *, flag: bool) -> Typed:
    problems: list[Problem] = []

    def report(fault: Fault) -> None:
        before = text[: fault.span.start]
        line = before.count("\n") + 1
        column = fault.span.start - (before.rfind("\n") + 1)
        shown = text.split("\n")[line - 1]
        length = max(1, min(fault.span.end - fault.span.start, len(shown) - column + 1))
        excerpt = Excerpt(shown, column, length)
        problems.append(Problem(fault.message, Place(where, line, column + 1), excerpt, fault.hint))

    node = parse(text)
    checked = None
    if isinstance(node, Fault):
        report(node)
    else:
        check = check_flag if flag else check_value
        checked = check(Written(text, node, report), table, scope_of(rulebook))
    if checked is None:
        raise KeymalletError(problems)
    return checked


def scope_of(rulebook: Rulebook) -> Book:
    """The limits and terms of a rulebook that has passed its checks."""
    terms = {
        name: Written(term.text, _parsed(term.text), lambda fault: None)
        for name, term in rulebook.terms.items()
    }
    return Book(rulebook.limits, terms, rulebook.populations)


def _parsed(text: str) -> Node:
    node = parse(text)
    assert not isinstance(node, Fault), "a term of a rulebook that passed its checks"
    return node


def split_list(text: str) -> list[str]:
    """Divide `name, age(created), least(a, b)` at the commas that stand in no brackets and no quotes."""
    parts, depth, quoted, start = [], 0, False, 0
    for place, character in enumerate(text):
        if character == "'":
            quoted = not quoted
        elif not quoted and character in "([":
            depth += 1
        elif not quoted and character in ")]":
            depth -= 1
        # A comma within brackets belongs to a function's arguments, one within quotes to a text.
        elif character == "," and not quoted and depth == 0:
            parts.append(text[start:place])
            start = place + 1
    parts.append(text[start:])
    return [part.strip() for part in parts if part.strip()]
