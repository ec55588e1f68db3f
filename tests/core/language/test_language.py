"""Syntax, names and types: what is understood, and how faults are told."""

from __future__ import annotations

import tomllib
from datetime import UTC, datetime, timedelta
from importlib.resources import files

import lark
import pytest

from keymallet.core.facts.declaration import TABLES
from keymallet.core.facts.model import Kind, Table
from keymallet.core.language import tree
from keymallet.core.language.check import check_flag, definition
from keymallet.core.language.functions import FUNCTIONS
from keymallet.core.language.literals import parse_instant, parse_span, span_text
from keymallet.core.language.parse import BUILT, _parser, built_of, parse
from keymallet.core.language.scope import Book, Written
from keymallet.core.language.tree import AddSub, BoolOp, Compare, Fault, Literal, Name, Not, Span
from keymallet.sources.rulebooks import shipped, shipped_text

NOWHERE = Span(0, 0)


def name(text: str) -> Name:
    return Name(NOWHERE, text)


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("enabled", name("enabled")),
        ("not a and b", BoolOp(NOWHERE, "and", (Not(NOWHERE, name("a")), name("b")))),
        (
            "a or b and c",
            BoolOp(NOWHERE, "or", (name("a"), BoolOp(NOWHERE, "and", (name("b"), name("c"))))),
        ),
        (
            "(a or b) and c",
            BoolOp(NOWHERE, "and", (BoolOp(NOWHERE, "or", (name("a"), name("b"))), name("c"))),
        ),
        ("a-b - c = d", Compare(NOWHERE, "=", AddSub(NOWHERE, "-", name("a-b"), name("c")), name("d"))),
        (
            "a - b - c = d",
            Compare(
                NOWHERE,
                "=",
                AddSub(NOWHERE, "-", AddSub(NOWHERE, "-", name("a"), name("b")), name("c")),
                name("d"),
            ),
        ),
        ("x >= 1.5", Compare(NOWHERE, ">=", name("x"), Literal(NOWHERE, 1.5))),
        ("true", Literal(NOWHERE, True)),
        ("truest", name("truest")),
        ("no-factor", name("no-factor")),
        ("known is known", tree.Known(NOWHERE, name("known"), negated=False)),
    ],
)
def test_what_is_written_becomes_a_tree(text: str, expected: tree.Node) -> None:
    """`or` binds least, then `and`, then `not`; a hyphen belongs to the name; minus groups to the left."""
    assert parse(text) == expected


def test_positions_are_of_the_text_itself() -> None:
    """Every node knows the characters it was written at."""
    node = parse("kind = person and  enabled")
    assert isinstance(node, BoolOp)
    assert node.parts[1].span == Span(19, 26)


@pytest.mark.parametrize(
    ("text", "at", "message", "hint"),
    [
        ("", 0, "the expression is empty", ""),
        ("a and", 5, "the expression ends too early", "missing"),
        ("a == b", 3, '"==" is no comparison', 'write "="'),
        ("a <> b", 3, '"<>" is no comparison', 'write "!="'),
        ("a => b", 3, '"=>" is no comparison', 'write "not A or B"'),
        ("a = = b", 4, "two comparisons stand side by side", "= != < <= > >="),
        ("if a then b", 3, '"if" is not part of the language', 'put whom the rule is for into "who"'),
        ("a unless b", 2, '"unless" is not part of the language', 'put whom the rule is for into "who"'),
        ("a < b < c", 6, "a comparison has two sides", '"and"'),
        ("age(x) <= 90days", 12, '"days" is no unit of time', "90d"),
        ("a && b", 2, '"&" is not part of the language', '"and"'),
        ('kind = "x"', 7, "single quotes", "'text'"),
        ("name = 'x", 7, "no closing quote", "close it"),
        ("a b", 2, '"b" cannot stand here', '"and" or "or"'),
        ("(a", 2, "ends too early", "closing bracket"),
        ("ends < 2026-02-30", 7, "no day or time of the years", "2026-11-24"),
        ("x in a, b", 6, "cannot stand here", ""),
        ("groups has 'x'", 7, "not part of the language", "includes"),
        ("x is here", 5, "cannot stand here", "is known"),
        ("groups includes ['x']", 16, "a list cannot stand here", "includes any of"),
        ("x like adm", 7, "cannot stand here", "single quotes"),
        ("(" * 101 + "a" + ")" * 101, 0, "nested", "terms"),
        ("not " * 2000 + "a", 0, "nested", "terms"),
        ("a" * 30_000, 0, "longer than", "terms"),
    ],
)
def test_faults_of_syntax_point_at_the_place(text: str, at: int, message: str, hint: str) -> None:
    """One fault, at the character where it stands, with what to write instead."""
    fault = parse(text)
    assert isinstance(fault, Fault)
    assert (fault.span.start, message in fault.message, hint in fault.hint) == (at, True, True), fault


def faults_of(text: str, table: str = "account", terms: dict[str, str] | None = None) -> list[Fault]:
    found: list[Fault] = []
    book = Book(terms={key: _written(value, found) for key, value in (terms or {}).items()})
    check_flag(_written(text, found), TABLES[table], book)
    return found


def _written(text: str, found: list[Fault]) -> Written:
    node = parse(text)
    assert not isinstance(node, Fault), node
    return Written(text, node, found.append)


@pytest.mark.parametrize(
    ("text", "table", "marked", "message", "hint"),
    [
        ("every factor", "account", "every factor", "always true", "every factor (…)"),
        ("no account (every key)", "person", "every key", "always true", "every key (…)"),
        ("kind in []", "account", "[]", "nothing is in an empty list", "name what it holds"),
        ("groups includes any of []", "account", "[]", "nothing is in an empty list", "name what it holds"),
        ("age(isued) <= 90d", "key", "isued", 'a key has no column "isued"', 'did you mean "issued"?'),
        ("kind = persn", "account", "persn", "none of the words", 'did you mean "person"?'),
        ("kind = 'person'", "account", "'person'", "without quotes", "write it bare: person"),
        ("enabled < true", "account", "enabled < true", "needs an order", '"="'),
        ("created < 90d", "account", "90d", "an instant", "age(created)"),
        ("failed-attempts > 1d", "account", "1d", "a number", "has a unit"),
        ("age(created) <= limit.idle", "account", "limit.idle", 'no limit "idle" is set', "[limits]"),
        ("age(created)", "account", "age(created)", "a length of time, not a yes or no", "<= 90d"),
        ("kind", "account", "kind", "a word, not a yes or no", "kind = person"),
        ("groups = 'x'", "account", "'x'", "a list of words", ""),
        ("kind includes person", "account", "kind", "asks for a list", '"="'),
        ("groups in ['x']", "account", "groups", "not a list of words", "includes any of"),
        ("name like 'a*' and mail like 3", "account", None, "", ""),
        ("kind like 'p*'", "account", "kind", "asks for text", '"in"'),
        ("name matches '('", "account", "'('", "the pattern cannot be read: unclosed group", ""),
        ("some factr", "account", "factr", '"factr" is no table', 'did you mean "factor"?'),
        ("some person", "account", "person", "belongs to no account", "factor"),
        ("account.enabled", "account", "account.enabled", "is already the account", 'write "enabled"'),
        ("account.enabld", "key", "account.enabld", 'an account has no column "enabld"', "enabled"),
        ("enabled", "key", "enabled", "a key has no column", 'did you mean "account.enabled"?'),
        ("issued < at", "account", "issued", "an account has no column", "a key has one"),
        ("ends-starts > 1d", "account", "ends-starts", "no column", "a minus has spaces around it"),
        ("agee(created) > 1d", "account", "agee", "there is no function", 'did you mean "age"?'),
        ("surely(enabled)", "account", "surely", "there is no function", ""),
        ("age(created, ends) > 1d", "account", "age(created, ends)", "takes one value, not 2", ""),
        ("least(created) > at", "account", "least(created)", "takes two values or more", ""),
        ("least(created, 3) > at", "account", "3", "least takes an instant here, not a number", ""),
        ("greatest(kind, kind) = person", "account", "kind", "greatest takes", ""),
        ("weekday-of(created) = sunda", "account", "sunda", "none of the words", 'did you mean "sunday"?'),
        ("hour-of(name) > 9", "account", "name", "hour-of takes an instant, not text", ""),
        ("age(kind) > 1d", "account", "kind", "age takes an instant, not a word", ""),
        ("created + ends > at", "account", "created + ends", "cannot be added", ""),
        ("age(created) is known", "account", "age(created)", "only a fact", ""),
        ("unit.x = 'a'", "account", "unit.x", 'there is no "unit."', "account."),
        ("name = bob", "account", "bob", "no column", "text stands in quotes: 'bob'"),
        ("kind in [person, gust]", "account", "gust", "none of the words", 'did you mean "guest"?'),
        ("[a] = kind", "account", None, "", ""),
    ],
)
def test_faults_of_names_and_types(
    text: str, table: str, marked: str | None, message: str, hint: str
) -> None:
    """The caret marks the word that is wrong, and the one hint says what was probably meant."""
    node = parse(text)
    if marked is None:
        assert isinstance(node, Fault)
        return
    (fault,) = faults_of(text, table)
    assert text[fault.span.start : fault.span.end] == marked
    assert message in fault.message, fault
    assert hint in fault.hint, fault


def test_all_faults_of_an_expression_are_found() -> None:
    """Not only the first one."""
    assert len(faults_of("enabld and kind = persn or some factr and age(kind) > 1d")) == 4


def test_terms_that_go_in_a_circle_are_refused() -> None:
    """And the circle is shown."""
    (fault,) = faults_of("a", terms={"a": "not b", "b": "a or enabled"})
    assert "a -> b -> a" in fault.message


def test_a_fault_in_a_term_is_told_once_however_often_it_is_used() -> None:
    """Its uses are not faults of their own."""
    assert len(faults_of("a and a and not a", terms={"a": "enabld"})) == 1


def test_a_term_means_what_the_table_at_hand_makes_of_it() -> None:
    """`state = active` can be asked of factors and keys; asked of an account it is a fault."""
    terms = {"works": "state = active"}
    assert faults_of("some factor (works) and some key (works)", terms=terms) == []
    assert len(faults_of("works", terms=terms)) == 1


@pytest.mark.parametrize(
    ("written", "length"),
    [
        ("90d", timedelta(days=90)),
        ("8h", timedelta(hours=8)),
        ("30min", timedelta(minutes=30)),
        ("2w", timedelta(weeks=2)),
        ("45s", timedelta(seconds=45)),
        ("1.5h", timedelta(minutes=90)),
        ("250us", timedelta(microseconds=250)),
        ("0.1us", None),
        ("1y", None),
        ("-1d", None),
        ("999999999d", None),
        ("٣d", None),
    ],
)
def test_spans(written: str, length: timedelta | None) -> None:
    """Exact lengths of time; calendar months and years are none."""
    assert parse_span(written) == length


def test_instants() -> None:
    """With a zone they are instants, without they wait for the estate's clock."""
    assert parse_instant("2026-11-24T09:00Z") == datetime(2026, 11, 24, 9, tzinfo=UTC)
    assert parse_instant("2026-11-24T10:00:00.5+01:00") == datetime(
        2026, 11, 24, 9, 0, 0, 500_000, tzinfo=UTC
    )
    assert parse_instant("2026-11-24") == datetime(2026, 11, 24)
    assert parse_instant("2026-11-31") is None
    assert parse_instant("24.11.2026") is None
    assert parse_instant("0001-01-01") is None
    assert parse_instant("9999-12-31T23:59Z") is None


@pytest.mark.parametrize(
    ("length", "written"),
    [
        (timedelta(days=180), "180 d"),
        (timedelta(hours=36), "36 h"),
        (timedelta(minutes=-5), "-5 min"),
        (timedelta(), "0 s"),
    ],
)
def test_spans_are_written_with_one_unit(length: timedelta, written: str) -> None:
    """The largest unit that leaves no rest."""
    assert span_text(length) == written


@pytest.mark.parametrize("table", TABLES.values(), ids=lambda table: table.name)
def test_every_table_is_declared_in_full(table: Table) -> None:
    """Names are kebab-case and stand once; meanings are given; words belong to words; definitions hold."""
    assert len(set(table.names)) == len(table.names)
    for column in table.columns:
        assert column.meaning
        assert column.name == column.name.lower().replace("_", "-")
        assert bool(column.words) <= (column.kind in (Kind.WORD, Kind.WORDS))
        assert column.kind is not Kind.WORD or column.words
        if column.definition:
            assert definition(column, table).type.kind is column.kind
    assert set(table.label) <= set(table.names)
    assert not table.of_account or table.names[0] == "account"


def test_every_function_says_what_it_does() -> None:
    """The one table serves the checker, the compiler and the docs."""
    assert all(function.meaning and function.takes for function in FUNCTIONS.values())


def test_the_parser_that_ships_is_the_one_of_the_grammar() -> None:
    """After a change of the grammar, or with another Lark: `make schema` builds it anew."""
    folder = files("keymallet.core.language")
    grammar = folder.joinpath("grammar.lark").read_text("utf-8")
    assert folder.joinpath(BUILT).read_bytes().startswith(built_of(grammar) + b"\n")


def test_built_anew_the_parser_reads_the_same(monkeypatch: pytest.MonkeyPatch) -> None:
    """Every expression of the rulebooks that ship, and faults; as where another version of Lark is installed."""
    texts = [
        "enabled and",
        "a = = b",
        "age(created) <= 3d",
        "not (enabled or kind in [person, 'x'])",
        "1d + $",
    ]
    for book in shipped():
        told = tomllib.loads(shipped_text(book))
        texts += told.get("terms", {}).values()
        texts += [
            rule[name] for rule in told.get("rule", {}).values() for name in ("who", "must") if name in rule
        ]
    shipped_trees = [parse(text) for text in texts]
    assert len(texts) > 150
    monkeypatch.setattr(lark, "__version__", "0")
    for each in (_parser, parse):
        each.cache_clear()
    try:
        assert [parse(text) for text in texts] == shipped_trees
    finally:
        for each in (_parser, parse):
            each.cache_clear()
