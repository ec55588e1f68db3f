"""Rulebooks: TOML text to limits, terms, typed rules and tallies, with every fault found at once."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from datetime import date, datetime, timedelta
from typing import Any, TypeVar

import msgspec

from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.problems import KeymalletError, Problem
from keymallet.core.facts.declaration import ACCOUNT, PERSON, TABLES, tables_with_verdicts
from keymallet.core.facts.model import Kind, Table
from keymallet.core.language import typed
from keymallet.core.language.check import check_flag, check_value
from keymallet.core.language.contradictions import never_true
from keymallet.core.language.functions import FUNCTIONS
from keymallet.core.language.literals import is_in_range, parse_instant, parse_span
from keymallet.core.language.parse import parse
from keymallet.core.language.scope import Book, Limit, Written
from keymallet.core.language.tree import Fault, Name, Span
from keymallet.core.language.typed import Typed, type_of
from keymallet.core.rulebook.deadlines import with_deadlines
from keymallet.core.rulebook.includes import Books, Item, Open, Parts, book_name, book_names, read_files
from keymallet.core.rulebook.model import (
    MENDS,
    SEVERITIES,
    TERMS_OF_TOPICS,
    TOPICS,
    NotJudged,
    Origin,
    Rule,
    Rulebook,
    Severity,
    Tally,
)
from keymallet.core.rulebook.several import side_by_side

_MOST_COUNTED = 10**12
GROUPINGS = ("unit", "source")
_NAMED_SO = ("limit", "account", "person", "setting")
S = TypeVar("S", bound=msgspec.Struct)


class _DemandText(msgspec.Struct, rename="kebab"):
    """What every demand says in the file."""

    title: str
    severity: str
    each: str = "account"
    cite: list[str] = []
    advice: str = ""
    mend: str = ""
    topic: str = ""
    note: str = ""
    formerly: list[str] = []
    mend_within: str = ""


class _RuleText(_DemandText, rename="kebab", kw_only=True):
    must: str
    who: str = "true"
    grace: str = ""


class _DistinctText(_DemandText, rename="kebab", kw_only=True):
    by: str
    who: str = "true"
    within: str = ""


class _TallyText(_DemandText, rename="kebab", kw_only=True):
    count: str
    between: list[int]
    by: str = ""


class _NotJudgedText(msgspec.Struct, rename="kebab"):
    cite: str
    asks: str
    why: str


def read_rulebook(text: str, name: str, open_included: Open | None = None) -> Rulebook:
    """Read and check a whole rulebook, with the books it includes.

    Raises KeymalletError with every problem in it, each with file, line and column.
    """
    return read_rulebooks([(text, name)], open_included)


def read_rulebooks(texts: Sequence[tuple[str, str]], open_included: Open | None = None) -> Rulebook:
    """Read and check several rulebooks, each a text and its name, that are judged by side by side.

    Each keeps its own limits and terms. What two of them call alike is told apart by the name of the book
    before it: `pci-dss-4/failures`. Raises KeymalletError with every problem, as `read_rulebook`.
    """
    read = [read_files(text, name, open_included) for text, name in texts]
    for books in read:
        if not books.demands and not books.problems:
            books.documents[-1].fault(
                ("rule",),
                "there is no rule in this book",
                "add [rule.some-id] with title, who, must and severity",
            )
    every: dict[str, Parts] = {}
    for books, (_, root) in zip(read, texts, strict=True):
        for parts in books.parts:
            # A book that is asked for, and stands in another with other limits as well, is two.
            every[parts.name if parts.name not in every else f"{book_name(root)}/{parts.name}"] = parts
    taken = _named_twice(list(every.values()))
    called = book_names(every)
    found = {called[name]: _rulebook(parts, taken, called[name]) for name, parts in every.items()}
    problems = list(dict.fromkeys(problem for books in read for problem in _problems(books)))
    if problems:
        raise KeymalletError(problems)
    files = dict.fromkeys(document.name for books in read for document in reversed(books.documents))
    titles = " + ".join(dict.fromkeys(books.title for books in read))
    edition = read[0].edition if len(read) == 1 else ""
    book = side_by_side(found, titles, edition, tuple(files))
    return replace(book, roots=tuple(name for _, name in texts))


def _problems(books: Books) -> list[Problem]:
    try:
        books.raise_problems()
    except KeymalletError as error:
        return list(error.problems)
    return []


def _named_twice(every: Sequence[Parts]) -> frozenset[str]:
    """The limits that are not the same in all books that have one of that name."""
    items: dict[str, list[Item]] = {}
    for parts in every:
        for name, item in parts.limits.items():
            items.setdefault(name, []).append(item)
    return frozenset(
        name for name, held in items.items() if any(item.value != held[0].value for item in held[1:])
    )


def _rulebook(parts: Parts, taken: frozenset[str], short: str) -> Rulebook:
    """One book, of which the faults are noted in its documents; limits that are `taken` get its name."""
    names = {name: f"{short}/{name}" if name in taken else name for name in parts.limits}
    limits = _limits(parts, names)
    populations = _populations(parts, limits, names)
    book = Book(limits, _terms(parts), populations, frozenset(parts.limits.keys() - limits.keys()))
    read = {"rule": _rule, "distinct": _distinct, "tally": _tally}
    checked = [read[kind](item, book, key) for key, (kind, item) in parts.demands.items()]
    demands = list(with_deadlines(parts, checked))
    not_judged = [_not_judged(item) for item in parts.not_judged]
    _check_unused_terms(book)
    return Rulebook(
        title=parts.title,
        edition=parts.edition,
        limits={names[name]: limit for name, limit in book.limits.items()},
        rules=tuple(demand for demand in demands if isinstance(demand, Rule)),
        tallies=tuple(demand for demand in demands if isinstance(demand, Tally)),
        remarks=tuple(_unused(book)),
        populations={names[name]: values for name, values in populations.items()},
        limit_origins={names[name]: item.document.name for name, item in parts.limits.items()},
        terms={name: Origin(str(item.value), item.document.name) for name, item in parts.terms.items()},
        not_judged=tuple(entry for entry in not_judged if entry),
        files=(parts.name,),
    )


# limits


def _limits(parts: Parts, names: Mapping[str, str]) -> dict[str, Limit]:
    limits: dict[str, Limit] = {}
    for number, (name, item) in enumerate(parts.limits.items()):
        if number == _MOST_LIMITS:
            item.fault(f"there are more than {_MOST_LIMITS:,} limits", "who is to know them?")
            break
        limit = read_limit(names[name], item.value)
        if limit is None:
            item.fault(f'"{name}" is no limit', _LIMITS_ARE)
        else:
            limits[name] = limit
    return limits


_MOST_LIMITS = 10_000
_LIMITS_ARE = 'a limit is a length of time like "90d", a number, a date, true or false, or a list of words'


def _populations(
    parts: Parts, limits: dict[str, Limit], names: Mapping[str, str]
) -> dict[str, tuple[tuple[str, typed.Const], ...]]:
    """The limits that are others for some: for each the populations and values, in the order of the file."""
    populations: dict[str, tuple[tuple[str, typed.Const], ...]] = {}
    for population, own in parts.populations.items():
        first = next(iter(own.values()), None)
        if population not in parts.terms and first is not None:
            hint = did_you_mean(population, parts.terms) or "add it under [terms]"
            first.document.fault(first.path[:-1], f'"{population}" is no term of this book', hint)
            continue
        for name, item in own.items():
            value, whole = read_limit(names.get(name, name), item.value), limits.get(name)
            if value is None:
                item.fault(f'"{name}" is no limit', _LIMITS_ARE)
            elif whole is None and name not in parts.limits:
                hint = (
                    did_you_mean(name, limits) or f"set it for everybody else too: {name} = … under [limits]"
                )
                item.fault(f'no limit "{name}" is set', hint)
            elif isinstance(value, typed.ConstList) or isinstance(whole, typed.ConstList):
                item.fault("a list is the same for everybody", "write a rule of its own for this population")
            elif whole is not None and value.type != whole.type:
                item.fault(f'"{name}" is {whole.type} for everybody else, and {value.type} here')
            elif whole is not None:
                populations[name] = (*populations.get(name, ()), (population, value))
    return populations


def read_limit(name: str, value: Any) -> Limit | None:
    """A limit as it stands in TOML; None if it is none."""
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


# terms


def _terms(parts: Parts) -> dict[str, Written]:
    taken = {name for table in TABLES.values() for name in table.names} | FUNCTIONS.keys()
    taken |= {"at", *_NAMED_SO}
    terms: dict[str, Written] = {}
    for name, item in parts.terms.items():
        written = None
        if not isinstance(item.value, str):
            item.fault("a term is an expression, as text", 'like "kind = person and enabled"')
        elif name in taken:
            item.fault(f'"{name}" is the name of a fact already', "give the term a name of its own")
        else:
            written = _written(item, item.value)
        # A term that cannot be read is known by name all the same: its uses are no further faults.
        terms[name] = written or Written("", Name(Span(0, 0), ""), lambda fault: None)
    return terms


def _written(item: Item, text: str, *below: str) -> Written | None:
    def report(fault: Fault) -> None:
        span = (fault.span.start, fault.span.end)
        item.document.fault((*item.path, *below), fault.message, fault.hint, span)

    node = parse(text)
    if isinstance(node, Fault):
        report(node)
        return None
    return Written(text, node, report)


# rules, values that are not shared, tallies


def _rule(item: Item, book: Book, rule_id: str) -> Rule | None:
    read = _read(item, _RuleText)
    data = item.value if isinstance(item.value, dict) else {}
    table = _table(item, data)
    who = _expression(item, book, "who", data.get("who", "true"), table)
    must = _expression(item, book, "must", data.get("must"), table)
    demand = _demand(item, rule_id, data, table, read)
    grace = _grace(item, data.get("grace", ""))
    if demand is None or who is None or must is None or grace is None:
        return None
    if never_true(who):
        item.fault(
            "this rule is for nobody: its who can never be true", "drop = [ID] takes a rule out", "who"
        )
    return Rule(**demand, who=who, must=must, grace=grace or None)


def _distinct(item: Item, book: Book, rule_id: str) -> Rule | None:
    read = _read(item, _DistinctText)
    data = item.value if isinstance(item.value, dict) else {}
    table = _table(item, data)
    who = _expression(item, book, "who", data.get("who", "true"), table)
    fact = _shared_fact(item, data.get("by"), table)
    demand = _demand(item, rule_id, data, table, read)
    if demand is None or who is None or fact is None or table is None:
        return None
    within = data.get("within", "")
    if isinstance(within, str) and within not in ("", "source"):
        item.fault(f'a value is shared within a source, not "{within}"', 'within = "source"', "within")
        return None
    must = typed.Unshared(typed.FLAG, f"no {fact.text} is shared", table.name, fact, who, within == "source")
    return Rule(**demand, who=who, must=must, distinct=fact.text)


def _shared_fact(item: Item, name: Any, table: Table | None) -> typed.Fact | None:
    if table is None or not isinstance(name, str):
        return None
    column = table.column(name)
    fit = [fact.name for fact in table.columns if fact.kind is not Kind.WORDS and not fact.definition]
    if column is None or name not in fit:
        hint = did_you_mean(name, fit) or f"there are: {', '.join(fit)}"
        item.fault(f'"{name}" is no single value of each {table.name}', hint, "by")
        return None
    return typed.Fact(typed.ValueType(column.kind, column.words), name, table.name, column)


def _tally(item: Item, book: Book, tally_id: str) -> Tally | None:
    read = _read(item, _TallyText)
    data = item.value if isinstance(item.value, dict) else {}
    table = _table(item, data)
    count = _expression(item, book, "count", data.get("count"), table)
    demand = _demand(item, tally_id, data, table, read)
    bounds = _bounds(item, data.get("between"))
    by = data.get("by", "")
    if isinstance(by, str) and by and by not in GROUPINGS:
        item.fault(
            f'numbers are not counted by "{by}"',
            did_you_mean(by, GROUPINGS) or 'by = "unit" or "source"',
            "by",
        )
        return None
    if by == "unit" and table is not None and table not in (ACCOUNT, PERSON) and not table.of_account:
        item.fault(f"a {table.name} belongs to no unit", 'by = "source"', "by")
        return None
    if demand is None or count is None or bounds is None:
        return None
    return Tally(**demand, count=count, least=bounds[0], most=bounds[1], by=by)


def _bounds(item: Item, between: Any) -> tuple[int, int] | None:
    if not isinstance(between, list) or any(type(bound) is not int for bound in between):
        return None  # reported as a misfit of its type, or as missing
    if len(between) != 2 or not 0 <= between[0] <= between[1] <= _MOST_COUNTED:
        item.fault("between which two numbers", "the least and the most, like [2, 4]", "between")
        return None
    return between[0], between[1]


def _grace(item: Item, text: Any) -> timedelta | None:
    """The grace; zero for none, None if it is wrong."""
    if not text or not isinstance(text, str):
        return timedelta()
    span = parse_span(text)
    if not span:
        item.fault(f'"{text}" is no length of time', 'like "14d"', "grace")
        return None
    return span


def _read(item: Item, struct: type[S]) -> S | None:
    return item.document.read(struct, item.value, item.path)


def _demand(
    item: Item, demand_id: str, data: dict[str, Any], table: Table | None, read: _DemandText | None
) -> dict[str, Any] | None:
    """What every demand has, ready to make one; None if something of it is wrong."""
    severity = _severity(item, data.get("severity"))
    for key, words, what in (("mend", MENDS, "kind of change"), ("topic", TOPICS, "topic")):
        word = data.get(key, "")
        if isinstance(word, str) and word and word not in words:
            hint = did_you_mean(word, words) or f"there are: {', '.join(words)}"
            item.fault(f'"{word}" is no {what}', hint, key)
            read = None
    if read is None or table is None or severity is None:
        return None
    return {
        "id": demand_id,
        "title": read.title,
        "table": table.name,
        "severity": severity,
        "cite": tuple(read.cite),
        "advice": read.advice,
        "mend": read.mend,
        "topic": read.topic,
        "origin": item.document.name,
        "note": read.note,
        "formerly": tuple(read.formerly),
    }


def _table(item: Item, data: dict[str, Any]) -> Table | None:
    name = data.get("each", "account")
    names = [table.name for table in tables_with_verdicts()]
    if name in names:
        return TABLES[name]
    if isinstance(name, str):
        hint = did_you_mean(name, names) or f"there are: {', '.join(names)}"
        item.fault(f'no verdict can be given for each "{name}"', hint, "each")
    return None


def _severity(item: Item, word: Any) -> Severity | None:
    if isinstance(word, str) and word not in SEVERITIES:
        hint = did_you_mean(word, SEVERITIES) or f"there are: {', '.join(SEVERITIES)}"
        item.fault(f'"{word}" is no severity', hint, "severity")
    return SEVERITIES.get(word) if isinstance(word, str) else None


def _expression(item: Item, book: Book, key: str, text: Any, table: Table | None) -> Typed | None:
    if not isinstance(text, str):
        return None
    written = _written(item, text, key)
    return check_flag(written, table, book) if written and table else None


def _not_judged(item: Item) -> NotJudged | None:
    read = _read(item, _NotJudgedText)
    return NotJudged(read.cite, read.asks, read.why, item.document.name) if read else None


# what nobody uses


def _unused(book: Book) -> Iterator[str]:
    yield from (
        f"limit.{name} is set, but no rule uses it" for name in book.limits if name not in book.used_limits
    )
    yield from (
        f'the term "{name}" is not used by any rule'
        for name in book.terms
        if name not in book.used_terms | TERMS_OF_TOPICS
    )


def _check_unused_terms(book: Book) -> None:
    """Hold a term that no rule uses against the tables, so that a fault in it is found now.

    It is reported as a fault on the account if it fits no table at all.
    """
    for name in sorted(book.terms.keys() - book.used_terms):
        if not any(_fits(name, table, book) for table in tables_with_verdicts()):
            # A book of its own: what an unused term uses is not used by any rule for that.
            check_value(book.terms[name], ACCOUNT, _copy(book, dict(book.terms)))


def _fits(name: str, table: Table, book: Book) -> bool:
    """Whether a term, and all terms it uses, can be asked of the rows of a table."""
    faults: list[Fault] = []
    silent = {key: Written(term.text, term.node, faults.append) for key, term in book.terms.items()}
    check_value(silent[name], table, _copy(book, silent))
    return not faults


def _copy(book: Book, terms: dict[str, Written]) -> Book:
    return Book(book.limits, terms, book.populations, book.faulty_limits)
