"""The text of a rulebook to begin with: it builds on one that ships."""

from __future__ import annotations

from typing import Any

import tomlkit

from keymallet.core.explaining.wording import constant_text
from keymallet.core.facts.model import Kind
from keymallet.core.language import typed
from keymallet.core.language.scope import Limit
from keymallet.core.rulebook.model import Rulebook

_A_RULE = (
    "A rule of its own; under the id of one that is included, it replaces that.",
    "[rule.our-own]",
    'title    = "What is asked, in a sentence"',
    'who      = "kind = person and enabled"',
    'must     = "age(last-sign-in) <= 30d"',
    'severity = "medium"',
)


def new_rulebook(name: str, book: Rulebook) -> str:
    """The text: it includes the book of that name, whose limits stand in it ready to be changed."""
    document = tomlkit.document()
    document.add(tomlkit.comment("Built on a rulebook that ships with Keymallet: see it with"))
    document.add(tomlkit.comment(f"keymallet rules show {name}"))
    document.add(tomlkit.nl())
    document.add("title", tomlkit.item(f"Our own, on {name}"))
    document.add("edition", tomlkit.item("1"))
    document.add("include", tomlkit.item([name]))
    document.add(tomlkit.comment('drop = ["the-id-of-a-rule-that-is-not-for-us"]'))
    document.add(tomlkit.nl())
    limits = tomlkit.table()
    limits.comment("take the # away from what is to be otherwise here")
    for limit, value in book.limits.items():
        limits.add(tomlkit.comment(tomlkit.dumps({limit: _value(value)}).strip()))
    limits.add(tomlkit.nl())
    for line in _A_RULE:
        limits.add(tomlkit.comment(line))
    document.add("limits", limits)
    return tomlkit.dumps(document)


def _value(limit: Limit) -> Any:
    """A limit's value as a rulebook writes it: numbers, flags and lists as such, lengths of time as texts."""
    if isinstance(limit, typed.ConstList):
        return list(limit.values)
    if limit.type.kind in (Kind.COUNT, Kind.FLAG):
        return limit.value
    return constant_text(limit).replace(" ", "")
