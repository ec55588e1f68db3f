"""The files a rulebook is made of: each read by itself, then laid over one another.

A book may include others. What stands in a later file replaces what an earlier one says under the
same name, and `drop` takes rules away; every item keeps the file it came from, for messages.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
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
    mend_within: dict[str, Any] = {}


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
    """The items of the files of one book, the later ones laid over the earlier.

    `name` is the file that the book begins with.
    """

    name: str = ""
    title: str = ""
    edition: str = ""
    limits: dict[str, Item] = field(default_factory=dict)
    populations: dict[str, dict[str, Item]] = field(default_factory=dict)
    terms: dict[str, Item] = field(default_factory=dict)
    demands: dict[str, tuple[str, Item]] = field(default_factory=dict)
    not_judged: list[Item] = field(default_factory=list)
    mend_within: dict[str, Item] = field(default_factory=dict)


@dataclass
class Books:
    """One or more books that are judged by side by side: each with names of its own.

    `title` and `edition` are those of the file that was asked for.
    """

    documents: list[TomlDocument] = field(default_factory=list)
    parts: list[Parts] = field(default_factory=list)
    title: str = ""
    edition: str = ""

    @property
    def problems(self) -> list[Problem]:
        """What is wrong in all files."""
        return [problem for document in self.documents for problem in document.problems]

    @property
    def demands(self) -> dict[str, tuple[str, Item]]:
        """What any of them demands."""
        return {key: value for parts in self.parts for key, value in parts.demands.items()}

    def raise_problems(self) -> None:
        """Raise everything noted in any file, if there is anything."""
        problems: list[Problem] = []
        for document in dict.fromkeys(self.documents):
            try:
                document.raise_problems()
            except KeymalletError as error:
                problems += error.problems
        if problems:
            raise KeymalletError(problems)


def read_files(text: str, name: str, open_included: Open | None) -> Books:
    """Read a file and all it includes. Raises KeymalletError if one is no TOML at all, or is not there."""
    books = Books()
    reader = _Reader(books, open_included)
    books.parts = reader.read(text, name, ())
    top = reader.laid_out[name]
    books.title, books.edition = top.title, top.edition
    return books


@dataclass
class _Reader:
    """Reads a file and all it includes; every file once, however many include it."""

    books: Books
    open_included: Open | None
    opened: dict[str, TomlDocument] = field(default_factory=dict)
    laid_out: dict[str, _File] = field(default_factory=dict)

    def read(self, text: str, name: str, around: tuple[str, ...]) -> list[Parts]:
        """The books that a file comes to: one, unless it includes several that stand by themselves."""
        if name not in self.laid_out:
            self._open(text, name)
        document, laid_out = self.opened[name], self.laid_out[name]
        found: list[Parts] = []
        for place, wanted in enumerate(laid_out.include):
            found = _beside(found, self._include(document, ("include", place), wanted, (*around, name)))
        # The file comes after those it includes.
        if document in self.books.documents:
            self.books.documents.remove(document)
        self.books.documents.append(document)
        if len(found) > 1:
            return _over_several(found, document, laid_out)
        parts = found[0] if found else Parts()
        parts.name, parts.title, parts.edition = name, laid_out.title, laid_out.edition
        _lay_over(parts, document, laid_out)
        return [parts]

    def _open(self, text: str, name: str) -> None:
        document = TomlDocument(text, name)
        self.books.documents.append(document)
        laid_out = _file(document)
        if laid_out is None:
            self.books.raise_problems()
            raise AssertionError("a rulebook without problems could not be read")
        self.opened[name], self.laid_out[name] = document, laid_out

    def _include(
        self, document: TomlDocument, path: Path, wanted: str, around: tuple[str, ...]
    ) -> list[Parts]:
        if self.open_included is None:
            document.fault(path, "nothing can be included here")
            return []
        try:
            text, name = self.open_included(wanted, document.name)
        except KeymalletError as error:
            document.fault(path, error.problems[0].message, error.problems[0].hint)
            return []
        if name in around:
            document.fault(path, f"the file includes itself: {' -> '.join((*around, name))}")
            return []
        return self.read(text, name, around)


def _beside(found: list[Parts], more: list[Parts]) -> list[Parts]:
    """Books beside each other; what demands nothing by itself is laid over those before it."""
    for parts in more:
        if any(parts.name == other.name for other in found):
            continue
        if found and not parts.demands:
            for other in found:
                _lay_parts_over(other, parts)
        elif found and not any(other.demands for other in found):
            (below,) = found
            _lay_parts_over(below, parts)
            below.name, below.demands = parts.name, parts.demands
        else:
            found = [*found, parts]
    return found


def _lay_parts_over(below: Parts, above: Parts) -> None:
    below.limits |= above.limits
    below.terms |= above.terms
    for population, limits in above.populations.items():
        below.populations[population] = {**below.populations.get(population, {}), **limits}
    below.not_judged += above.not_judged
    below.mend_within |= above.mend_within


def _over_several(books: list[Parts], document: TomlDocument, laid_out: _File) -> list[Parts]:
    """A file over several books: what it sets holds in each of them, what it demands comes beside them."""
    own = Parts(document.name, laid_out.title, laid_out.edition)
    everywhere = Parts(demands={key: value for parts in books for key, value in parts.demands.items()})
    called = book_names(parts.name for parts in books)
    for parts in books:
        short = called[parts.name]
        everywhere.demands |= {f"{short}/{key}": value for key, value in parts.demands.items()}
    known = set(everywhere.demands)
    _lay_over(everywhere, document, laid_out)
    gone = known - everywhere.demands.keys()
    mine = {key: value for key, value in everywhere.demands.items() if value[1].document is document}
    for parts in books:
        short = called[parts.name]
        parts.demands = {
            key: value
            for key, value in parts.demands.items()
            if key not in mine and key not in gone and f"{short}/{key}" not in gone
        }
        _set_in(parts, short, everywhere)
    for name in dict.fromkeys(name for parts in books for name in parts.limits):
        # A name that is one thing in one book and another in the next is none that this file could mean.
        _if_one(own.limits, name, [parts.limits[name] for parts in books if name in parts.limits])
    for name in dict.fromkeys(name for parts in books for name in parts.terms):
        _if_one(own.terms, name, [parts.terms[name] for parts in books if name in parts.terms])
    _lay_parts_over(own, everywhere)
    for parts in books:
        parts.mend_within |= everywhere.mend_within
    own.limits = {name: item for name, item in own.limits.items() if "/" not in name}
    own.demands = mine
    if not mine:
        books[-1].not_judged += everywhere.not_judged
        return books
    return [*books, own]


def _if_one(names: dict[str, Item], name: str, items: list[Item]) -> None:
    if all(item.value == items[0].value for item in items):
        names[name] = items[0]


def _set_in(parts: Parts, short: str, above: Parts) -> None:
    """Take over what the file above sets: for all books by the name alone, for this one by `book/name`."""
    for name, item in above.limits.items():
        book, _, limit = name.rpartition("/")
        if limit in parts.limits and book in ("", short):
            parts.limits[limit] = item
    parts.terms |= {name: item for name, item in above.terms.items() if name in parts.terms}
    for population, limits in above.populations.items():
        if population in parts.terms:
            named = {name: name.rpartition("/") for name in limits}
            mine = {
                limit: limits[name]
                for name, (book, _, limit) in named.items()
                if limit in parts.limits and book in ("", short)
            }
            parts.populations[population] = {**parts.populations.get(population, {}), **mine}


def book_name(file: str) -> str:
    """What a book is called in messages: the name of its file alone."""
    return file.replace("\\", "/").rpartition("/")[2].removesuffix(".toml")


def book_names(files: Iterable[str]) -> dict[str, str]:
    """What each book is called beside others: the name of its file, with folders where two have the same."""
    whole = list(dict.fromkeys(files))
    alone = [book_name(file) for file in whole]
    return {
        file: name if alone.count(name) == 1 else file.replace("\\", "/").removesuffix(".toml")
        for file, name in zip(whole, alone, strict=True)
    }


def _file(document: TomlDocument) -> _File | None:
    """The file's parts; None if its tables are none. A missing title does not hide what else is wrong."""
    whole = document.read(_File, document.data)
    if whole is not None:
        return whole
    tables = {"limits", "terms", "mend-within", *DEMANDS}
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
    for name, value in laid_out.mend_within.items():
        parts.mend_within[name] = Item(document, ("mend-within", name), value)
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
