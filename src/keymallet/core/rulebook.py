"""Rulebooks: TOML text to limits, terms and typed rules, with every fault found at once."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from enum import IntEnum
from typing import Any

import msgspec

from keymallet.core import facts
from keymallet.core.language import typed
from keymallet.core.language.check import check_flag, check_value
from keymallet.core.language.functions import FUNCTIONS
from keymallet.core.language.literals import is_in_range, parse_instant, parse_span
from keymallet.core.language.parse import parse
from keymallet.core.language.scope import Book, Limit, Written
from keymallet.core.language.tree import Fault, Literal, Span
from keymallet.core.language.typed import Typed, type_of
from keymallet.core.nearest import did_you_mean
from keymallet.core.toml_text import Path, TomlDocument


class Severity(IntEnum):
    """How bad a breach is; a higher number is worse."""

    LOW = 1
    MEDIUM = 2
    HIGH = 3
    CRITICAL = 4

    @property
    def word(self) -> str:
        """The severity as it is written in rulebooks."""
        return self.name.lower()


SEVERITIES = {severity.word: severity for severity in reversed(Severity)}


@dataclass(frozen=True, slots=True)
class Rule:
    """One demand: on each row of `table` for which `who` is true, `must` has to be true."""

    id: str
    title: str
    table: str
    who: Typed
    must: Typed
    severity: Severity
    cite: tuple[str, ...] = ()
    advice: str = ""


@dataclass(frozen=True, slots=True)
class Rulebook:
    """A rulebook that has passed every check. `remarks` say what stands in it without any use."""

    title: str
    edition: str
    digest: str
    limits: dict[str, Limit]
    rules: tuple[Rule, ...]
    remarks: tuple[str, ...] = ()

    def expressions(self) -> Iterator[tuple[str, Typed]]:
        """Every `who` and `must`, with the table it is asked of."""
        for rule in self.rules:
            yield rule.table, rule.who
            yield rule.table, rule.must


class _RuleText(msgspec.Struct, rename="kebab"):
    """A rule as it stands in the file."""

    title: str
    must: str
    severity: str
    who: str = "true"
    each: str = "account"
    cite: list[str] = []
    advice: str = ""


class _RulebookText(msgspec.Struct, rename="kebab"):
    """A rulebook as it stands in the file. Rules and limits are read one by one."""

    title: str
    edition: str = ""
    limits: dict[str, Any] = {}
    terms: dict[str, Any] = {}
    rule: dict[str, Any] = {}


def read_rulebook(text: str, name: str) -> Rulebook:
    """Read and check a whole rulebook.

    Raises KeymalletError with every problem in it, each with file, line and column.
    """
    document = TomlDocument(text, name)
    # A missing title must not hide what is wrong with the rules.
    data = {key: value for key, value in document.data.items() if key in ("limits", "terms", "rule")}
    whole = document.read(_RulebookText, document.data)
    found = whole or document.read(
        _RulebookText, {"title": "", **{k: v for k, v in data.items() if isinstance(v, dict)}}
    )
    if found is None:
        document.raise_problems()
        raise AssertionError("a rulebook without problems could not be read")
    limits = _limits(document, found.limits)
    faulty = frozenset(found.limits.keys() - limits.keys())
    book = Book(limits, _terms(document, found.terms), faulty)
    rules = [_rule(document, book, key, data) for key, data in found.rule.items()]
    _check_unused_terms(book)
    if not found.rule and not document.problems:
        document.fault(
            ("rule",),
            "there is no rule in this book",
            "add [rule.some-id] with title, who, must and severity",
        )
    document.raise_problems()
    digest = hashlib.sha256(text.encode()).hexdigest()
    return Rulebook(
        title=found.title,
        edition=found.edition,
        digest=digest,
        limits=dict(book.limits),
        rules=tuple(rule for rule in rules if rule),
        remarks=tuple(_unused(book)),
    )


def _limits(document: TomlDocument, data: dict[str, Any]) -> dict[str, Limit]:
    limits: dict[str, Limit] = {}
    for name, value in data.items():
        limit = _limit(name, value)
        if limit is None:
            document.fault(
                ("limits", name),
                f'"{name}" is no limit',
                'a limit is a length of time like "90d", a number, a date, true or false, or a list of words',
            )
        else:
            limits[name] = limit
    return limits


def _limit(name: str, value: Any) -> Limit | None:
    shown = f"limit.{name}"
    if isinstance(value, list):
        if not value or any(
            not isinstance(item, str | int | float) or isinstance(item, bool) for item in value
        ):
            return None
        if len({isinstance(item, str) for item in value}) > 1:
            return None
        kind = typed.TEXT if isinstance(value[0], str) else typed.COUNT
        return typed.ConstList(kind, shown, tuple(value), limit=name)
    if isinstance(value, str):
        span = parse_span(value)
        value = parse_instant(value) if span is None else span
    elif isinstance(value, date) and not isinstance(value, datetime):
        value = datetime(value.year, value.month, value.day)
    if isinstance(value, datetime) and not is_in_range(value):
        return None
    if value is None or not isinstance(value, bool | int | float | timedelta | datetime) or value != value:
        return None
    return typed.Const(type_of(value), shown, value, limit=name)


def _terms(document: TomlDocument, data: dict[str, Any]) -> dict[str, Written]:
    taken = {name for table in facts.TABLES.values() for name in table.names} | FUNCTIONS.keys() | {"at"}
    terms: dict[str, Written] = {}
    for name, value in data.items():
        path: Path = ("terms", name)
        written = None
        if not isinstance(value, str):
            document.fault(path, "a term is an expression, as text", 'like "kind = person and enabled"')
        elif name in taken:
            document.fault(path, f'"{name}" is the name of a fact already', "give the term a name of its own")
        else:
            written = _written(document, path, value)
        # A term that cannot be read is known by name all the same: its uses are no further faults.
        terms[name] = written or Written("false", Literal(Span(0, 5), False), lambda fault: None)
    return terms


def _written(document: TomlDocument, path: Path, text: str) -> Written | None:
    def report(fault: Fault) -> None:
        document.fault(path, fault.message, fault.hint, (fault.span.start, fault.span.end))

    node = parse(text)
    if isinstance(node, Fault):
        report(node)
        return None
    return Written(text, node, report)


def _rule(document: TomlDocument, book: Book, rule_id: str, data: Any) -> Rule | None:
    path: Path = ("rule", rule_id)
    read = document.read(_RuleText, data, path)
    known = data if isinstance(data, dict) else {}
    table = _table(document, path, known.get("each", "account"))
    severity = _severity(document, path, known.get("severity"))
    who = _expression(document, book, (*path, "who"), known.get("who", "true"), table)
    must = _expression(document, book, (*path, "must"), known.get("must"), table)
    if read is None or table is None or severity is None or who is None or must is None:
        return None
    return Rule(rule_id, read.title, table.name, who, must, severity, tuple(read.cite), read.advice)


def _table(document: TomlDocument, path: Path, name: Any) -> facts.Table | None:
    names = [table.name for table in facts.tables_with_verdicts()]
    if name in names:
        return facts.TABLES[name]
    if isinstance(name, str):
        hint = did_you_mean(name, names) or f"there are: {', '.join(names)}"
        document.fault((*path, "each"), f'no verdict can be given for each "{name}"', hint)
    return None


def _severity(document: TomlDocument, path: Path, word: Any) -> Severity | None:
    if isinstance(word, str) and word not in SEVERITIES:
        hint = did_you_mean(word, SEVERITIES) or f"there are: {', '.join(SEVERITIES)}"
        document.fault((*path, "severity"), f'"{word}" is no severity', hint)
    return SEVERITIES.get(word) if isinstance(word, str) else None


def _expression(
    document: TomlDocument, book: Book, path: Path, text: Any, table: facts.Table | None
) -> Typed | None:
    if not isinstance(text, str):
        return None
    written = _written(document, path, text)
    return check_flag(written, table, book) if written and table else None


def _unused(book: Book) -> Iterator[str]:
    yield from (
        f"limit.{name} is set, but no rule uses it" for name in book.limits if name not in book.used_limits
    )
    yield from (
        f'the term "{name}" is not used by any rule' for name in book.terms if name not in book.used_terms
    )


def _check_unused_terms(book: Book) -> None:
    """Hold a term that no rule uses against the tables, so that a fault in it is found now.

    It is reported as a fault on the account if it fits no table at all.
    """
    for name in sorted(book.terms.keys() - book.used_terms):
        if not any(_fits(name, table, book) for table in facts.tables_with_verdicts()):
            # A book of its own: what an unused term uses is not used by any rule for that.
            check_value(book.terms[name], facts.ACCOUNT, Book(book.limits, book.terms, book.faulty_limits))


def _fits(name: str, table: facts.Table, book: Book) -> bool:
    """Whether a term, and all terms it uses, can be asked of the rows of a table."""
    faults: list[Fault] = []
    silent = {key: Written(term.text, term.node, faults.append) for key, term in book.terms.items()}
    check_value(silent[name], table, Book(book.limits, silent, book.faulty_limits))
    return not faults
