"""The files a rulebook is made of: each read by itself, then laid over one another.

A book may include others. What stands in a later file replaces what an earlier one says under the
same name, and `drop` takes rules away; every item keeps the file it came from, for messages.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import Any

import msgspec

from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.problems import KeymalletError, Problem
from keymallet.core.base.toml_text import Path, TomlDocument

Open = Callable[[str, str], tuple[str, str]]
"""From the name that is included and the file that includes it to its text and full name."""

DEMANDS = ("rule", "tally", "distinct")


class _File(msgspec.Struct, rename="kebab"):
    """A rulebook as it stands in one file. What it demands is read one by one."""

    title: str
    edition: str = ""
    include: list[str] = []
    drop: list[str] = []
    limits: dict[str, Any] = {}
    terms: dict[str, Any] = {}
    rule: dict[str, Any] = {}
    tally: dict[str, Any] = {}
    distinct: dict[str, Any] = {}
    not_judged: list[Any] = []


@dataclass(frozen=True, slots=True)
class Item:
    """One value of one file."""

    document: TomlDocument
    path: Path
    value: Any

    def fault(self, message: str, hint: str = "", *below: str | int) -> None:
        """Note what is wrong with it, or with something below it."""
        self.document.fault((*self.path, *below), message, hint)


@dataclass
class Parts:
    """The items of all files of a book, the later ones laid over the earlier."""

    title: str = ""
    edition: str = ""
    documents: list[TomlDocument] = field(default_factory=list)
    limits: dict[str, Item] = field(default_factory=dict)
    populations: dict[str, dict[str, Item]] = field(default_factory=dict)
    terms: dict[str, Item] = field(default_factory=dict)
    demands: dict[str, tuple[str, Item]] = field(default_factory=dict)
    not_judged: list[Item] = field(default_factory=list)

    @property
    def problems(self) -> list[Problem]:
        """What is wrong in all files."""
        return [problem for document in self.documents for problem in document.problems]

    def raise_problems(self) -> None:
        """Raise everything noted in any file, if there is anything."""
        problems: list[Problem] = []
        for document in self.documents:
            try:
                document.raise_problems()
            except KeymalletError as error:
                problems += error.problems
        if problems:
            raise KeymalletError(problems)


def read_files(text: str, name: str, open_included: Open | None) -> Parts:
    """Read a file and all it includes. Raises KeymalletError if one is no TOML at all, or is not there."""
    parts = Parts()
    _read(parts, text, name, open_included, ())
    return parts


def _read(parts: Parts, text: str, name: str, open_included: Open | None, around: tuple[str, ...]) -> None:
    document = TomlDocument(text, name)
    parts.documents.append(document)
    laid_out = _file(document)
    if laid_out is None:
        parts.raise_problems()
        raise AssertionError("a rulebook without problems could not be read")
    for place, wanted in enumerate(laid_out.include):
        _include(parts, document, ("include", place), wanted, open_included, (*around, name))
    parts.title, parts.edition = laid_out.title, laid_out.edition
    parts.documents.append(parts.documents.pop(parts.documents.index(document)))
    _lay_over(parts, document, laid_out)


def _include(
    parts: Parts,
    document: TomlDocument,
    path: Path,
    wanted: str,
    open_included: Open | None,
    around: tuple[str, ...],
) -> None:
    if open_included is None:
        document.fault(path, "nothing can be included here")
        return
    try:
        text, name = open_included(wanted, document.name)
    except KeymalletError as error:
        document.fault(path, error.problems[0].message, error.problems[0].hint)
        return
    if name in around:
        document.fault(path, f"the file includes itself: {' -> '.join((*around, name))}")
        return
    if any(name == other.name for other in parts.documents):
        return  # included by two files: it has been laid down already
    _read(parts, text, name, open_included, around)


def _file(document: TomlDocument) -> _File | None:
    """The file's parts; None if its tables are none. A missing title does not hide what else is wrong."""
    whole = document.read(_File, document.data)
    if whole is not None:
        return whole
    tables = {"limits", "terms", *DEMANDS}
    usable = {key: value for key, value in document.data.items() if key in tables and isinstance(value, dict)}
    return document.read(_File, {"title": "", **usable})


def _lay_over(parts: Parts, document: TomlDocument, laid_out: _File) -> None:
    for name, value in laid_out.limits.items():
        if name == "for" and isinstance(value, dict):
            _lay_over_populations(parts, document, value)
        else:
            parts.limits[name] = Item(document, ("limits", name), value)
    for name, value in laid_out.terms.items():
        parts.terms[name] = Item(document, ("terms", name), value)
    here: set[str] = set()
    for kind, demand_id, value in _demands(laid_out):
        path = (kind, demand_id)
        if demand_id in here:
            document.fault(
                path, f'"{demand_id}" is the id of something else here', "give it an id of its own"
            )
        here.add(demand_id)
        parts.demands[demand_id] = (kind, Item(document, path, value))
    for place, demand_id in enumerate(laid_out.drop):
        if demand_id in here or demand_id not in parts.demands:
            known = [demand for demand in parts.demands if demand not in here]
            _nothing_to_drop(document, ("drop", place), demand_id, known)
        else:
            del parts.demands[demand_id]
    parts.not_judged += [
        Item(document, ("not-judged", place), value) for place, value in enumerate(laid_out.not_judged)
    ]


def _lay_over_populations(parts: Parts, document: TomlDocument, value: dict[str, Any]) -> None:
    for population, limits in value.items():
        path: Path = ("limits", "for", population)
        if not isinstance(limits, dict):
            document.fault(
                path, "this has to be a table of limits", f'[limits.for.{population}], then NAME = "90d"'
            )
            continue
        own = parts.populations.setdefault(population, {})
        for name, limit in limits.items():
            own[name] = Item(document, (*path, name), limit)


def _demands(laid_out: _File) -> Iterator[tuple[str, str, Any]]:
    for kind in DEMANDS:
        for demand_id, value in getattr(laid_out, kind).items():
            yield kind, demand_id, value


def _nothing_to_drop(document: TomlDocument, path: Path, demand_id: str, known: list[str]) -> None:
    hint = did_you_mean(demand_id, known) or "only what an included book says can be dropped"
    document.fault(path, f'no included book has a rule "{demand_id}"', hint)
