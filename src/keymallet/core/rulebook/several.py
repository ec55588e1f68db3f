"""Several rulebooks as one: their demands beside each other, and what they demand alike once."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import fields, replace
from typing import Any

from keymallet.core.language import typed
from keymallet.core.language.typed import Typed
from keymallet.core.rulebook.model import Demand, Origin, Rule, Rulebook, Tally

_MORE_IS_STRICTER = {"<": False, "<=": False, ">": True, ">=": True}
_TURNED = {"<": ">", "<=": ">=", ">": "<", ">=": "<="}


def side_by_side(
    called: Mapping[str, Rulebook], title: str, edition: str, files: tuple[str, ...]
) -> Rulebook:
    """The books, each by what it is called, as one.

    A demand that several make is there once: the strictest, with all citations.
    """
    books = list(called.values())
    if len(books) == 1:
        return replace(books[0], title=title, edition=edition, files=files)
    demands = _told_apart(_once_each(called))
    return Rulebook(
        title=title,
        edition=edition,
        limits={name: limit for book in books for name, limit in book.limits.items()},
        rules=tuple(demand for demand in demands if isinstance(demand, Rule)),
        tallies=tuple(demand for demand in demands if isinstance(demand, Tally)),
        remarks=tuple(dict.fromkeys(remark for book in books for remark in book.remarks)),
        populations={name: values for book in books for name, values in book.populations.items()},
        limit_origins={name: file for book in books for name, file in book.limit_origins.items()},
        terms=_common_terms(books),
        not_judged=tuple(dict.fromkeys(entry for book in books for entry in book.not_judged)),
        files=files,
    )


def _once_each(called: Mapping[str, Rulebook]) -> list[tuple[str, Demand]]:
    """Every demand with its book; of those that ask the same of the same rows, only the strictest."""
    kept: dict[Any, tuple[str, Demand]] = {}
    for name, book in called.items():
        for demand in book.demands:
            key = (demand.table, type(demand), *_asked(demand))
            kept[key] = _stricter(kept[key], (name, demand)) if key in kept else (name, demand)
    return list(kept.values())


def _asked(demand: Demand) -> tuple[Any, ...]:
    """What a demand asks, but for the figure that decides how strict it is."""
    if isinstance(demand, Rule):
        bounded = _bound(demand.must)
        must = _shape(demand.must, bounded[0] if bounded else None)
        return (_shape(demand.who, None), must, demand.grace, demand.distinct)
    assert isinstance(demand, Tally)
    return (_shape(demand.count, None), demand.least, demand.most, demand.by)


def _bound(must: Typed) -> tuple[typed.Const, bool] | None:
    """The one limit that `must` compares with, and whether more is stricter; None if it is not so simple."""
    limits = {part for part in must.walk() if isinstance(part, typed.Const | typed.ConstList) and part.limit}
    if len(limits) != 1:
        return None
    found = [
        each for each in _members(must, "and") if isinstance(each, typed.Compare) and limits & set(each.parts)
    ]
    (limit,) = limits
    if len(found) != 1 or not isinstance(limit, typed.Const) or found[0].operator not in _TURNED:
        return None
    if sum(part == limit for part in must.walk()) != 1:
        return None
    operator = found[0].operator if found[0].right == limit else _TURNED[found[0].operator]
    return limit, _MORE_IS_STRICTER[operator]


def _members(node: Typed, word: str) -> Iterator[Typed]:
    """What `and`, or `or`, joins: through brackets and terms, for these change no meaning."""
    if isinstance(node, typed.Term):
        yield from _members(node.body, word)
    elif isinstance(node, typed.BoolOp) and node.word == word:
        for member in node.members:
            yield from _members(member, word)
    else:
        yield node


def _shape(node: Any, bound: typed.Const | None) -> Any:
    """An expression by its meaning: terms opened up, limits by their value, `bound` by its type alone."""
    if isinstance(node, typed.Term):
        return _shape(node.body, bound)
    if isinstance(node, typed.BoolOp):
        members = (_shape(member, bound) for member in _members(node, node.word))
        return (node.word, *sorted(members, key=repr))
    if isinstance(node, typed.Const) and node == bound:
        return ("bound", str(node.type))
    if isinstance(node, typed.Const):
        return ("value", str(node.type), node.value)
    if isinstance(node, Typed):
        held = [each.name for each in fields(node) if each.compare and each.name != "limit"]
        return (type(node).__name__, *((name, _shape(getattr(node, name), bound)) for name in held))
    if isinstance(node, tuple):
        return tuple(_shape(part, bound) for part in node)
    return node


def _stricter(first: tuple[str, Demand], second: tuple[str, Demand]) -> tuple[str, Demand]:
    """Of two that ask the same the stricter, with what is cited for both."""
    kept, left = first, second
    bounds = [_bound(demand.must) if isinstance(demand, Rule) else None for _, demand in (first, second)]
    note = ""
    if bounds[0] and bounds[1]:
        mine, theirs = bounds[0][0].value, bounds[1][0].value
        if mine != theirs:
            note = ", less strictly"
            if (theirs > mine) is bounds[0][1]:  # type: ignore[operator]
                kept, left = second, first
    name, demand = kept
    other, same = left
    if same.origin == demand.origin and same.id == demand.id and not note:
        return kept
    told = f"also asked by {other} ({same.id}){note}"
    return name, replace(
        demand,
        severity=max(demand.severity, same.severity),
        cite=tuple(dict.fromkeys((*demand.cite, *same.cite))),
        formerly=tuple(dict.fromkeys((*demand.formerly, *same.formerly))),
        mend_within=min(filter(None, (demand.mend_within, same.mend_within)), default=None),
        note="; ".join(part for part in (demand.note, told) if part),
    )


def _told_apart(demands: list[tuple[str, Demand]]) -> list[Demand]:
    """The demands, with the name of the book before an id that several books give."""
    number = Counter(demand.id for _, demand in demands)
    return [
        replace(demand, id=f"{name}/{demand.id}") if number[demand.id] > 1 else demand
        for name, demand in demands
    ]


def _common_terms(books: Sequence[Rulebook]) -> Mapping[str, Origin]:
    """The terms that mean the same in every book that has them: what is asked besides may use these."""
    every: dict[str, Origin] = {}
    gone: set[str] = set()
    limits: dict[str, Any] = {}
    for book in books:
        for name, limit in book.limits.items():
            limits.setdefault(name, limit)
        for name, term in book.terms.items():
            if every.setdefault(name, term).text != term.text:
                gone.add(name)
    while True:
        named = {name for name, term in every.items() if name not in gone and _mentioned(term.text) & gone}
        unset = {
            name
            for name, term in every.items()
            if any(word.startswith("limit.") and word[6:] not in limits for word in _mentioned(term.text))
        }
        if (named | unset) <= gone:
            return {name: term for name, term in every.items() if name not in gone}
        gone |= named | unset


def _mentioned(text: str) -> set[str]:
    """The names in an expression; of `account.admin` and the like, what stands behind the point as well."""
    words = set(re.findall(r"[a-z][a-z0-9.-]*", text))
    return words | {word.partition(".")[2] for word in words}
