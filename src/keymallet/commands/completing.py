"""Answering the shell at a Tab: which words may stand where it stands."""

from __future__ import annotations

import argparse
import os
from collections.abc import Callable, Iterator
from typing import Any

import argcomplete
from argcomplete.completers import DirectoriesCompleter, FilesCompleter

from keymallet.commands.arguments.view import TOPICS
from keymallet.commands.parsers import parser_of_all
from keymallet.completing import offers

Offer = Callable[..., Any]


def _of_estate(offered: Callable[[str, Any], list[str]]) -> Offer:
    def offer(prefix: str, parsed_args: argparse.Namespace, **others: Any) -> list[str]:
        return offered(prefix, parsed_args)

    return offer


def _after(offered: Offer, also: Offer) -> Offer:
    def offer(**asked: Any) -> list[str]:
        return [*offered(**asked), *also(**asked)]

    return offer


_FILES, _FOLDERS = FilesCompleter(), DirectoriesCompleter()
_NOTHING = _of_estate(lambda prefix, told: [])
_ACCOUNTS = _of_estate(lambda prefix, told: offers.accounts(told.estate, prefix))
_BOOKS = _of_estate(lambda prefix, told: offers.rulebooks())
_RULES = _of_estate(lambda prefix, told: offers.rules(told.estate, getattr(told, "rulebook", None)))
_LIMITS = _of_estate(
    lambda prefix, told: [f"{name}=" for name in offers.limits(told.estate, getattr(told, "rulebook", None))]
)


def _tables(**asked: Any) -> list[str]:
    from keymallet.core.facts.declaration import TABLES

    return list(TABLES)


OFFERED: dict[str, Offer] = {
    "account": _ACCOUNTS,
    "accounts": _ACCOUNTS,
    "topic": _of_estate(lambda prefix, told: list(TOPICS)),
    "each": _tables,
    "table": _tables,
    "only": _of_estate(lambda prefix, told: offers.sources(told.estate)),
    "entry": _of_estate(lambda prefix, told: offers.entries(told.estate, getattr(told, "register", None))),
    "rule": _RULES,
    "rules": _RULES,
    "settings": _LIMITS,
    "sweep": _LIMITS,
    "base": _BOOKS,
    "rulebook": _after(_BOOKS, _FILES),
    "against": _after(_BOOKS, _FILES),
    "before": _after(_BOOKS, _FILES),
    "after": _after(_BOOKS, _FILES),
}
"""What is offered for an argument, by its name in what is parsed."""

BY_METAVAR: dict[str, Offer] = {"FILE": _FILES, "MAP": _FILES, "CASES": _FILES, "FOLDER": _FOLDERS}
"""The same for all others, by what they are said to be; for a day or a number nothing is offered."""


def complete() -> None:
    """Answer the shell that has started this process to ask, and end it."""
    typed = os.environ.get("COMP_LINE", "").split()
    parser = parser_of_all(typed[1] if len(typed) > 1 else "")
    for action in _arguments(parser):
        known = OFFERED.get(action.dest) or BY_METAVAR.get(str(action.metavar))
        if action.choices is None:
            action.completer = known or _NOTHING  # type: ignore[attr-defined]
    argcomplete.autocomplete(parser, always_complete_options=False)


def _arguments(parser: argparse.ArgumentParser) -> Iterator[argparse.Action]:
    for action in parser._actions:
        yield action
        if isinstance(action, argparse._SubParsersAction):
            for below in action.choices.values():
                yield from _arguments(below)
