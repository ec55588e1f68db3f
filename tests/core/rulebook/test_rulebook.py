"""Rulebooks: all faults at once, each at its place in the file."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from keymallet.core.base.problems import KeymalletError
from keymallet.core.explaining.wording import constant_text
from keymallet.core.facts.declaration import ACCOUNT
from keymallet.core.facts.model import Kind
from keymallet.core.rulebook.model import Severity
from keymallet.core.rulebook.question import read_condition, read_value
from keymallet.core.rulebook.reading import read_rulebook
from tests.profiles import examples

FAULTY = '''title = "Faulty"
sevrity = "high"
[limits]
soon = "soon"
schemes = ["yescrypt", "bcript"]
[terms]
kind = "enabled"
twice = "kind = persn"
[rule.first]
title = "First"
each = "kee"
must = "enabled"
severity = "hgh"
[rule.second]
title = 2
who = "twice"
must = """
enabled and
  \\u0061ge(creatd) <= 90d and password-scheme in limit.schemes"""
severity = "low"
[rule.third]
title = "Third"
'''


def problems_of(text: str) -> list[tuple[int, int, str]]:
    with pytest.raises(KeymalletError) as raised:
        read_rulebook(text, "rulebook.toml")
    return [(p.place.line, p.place.column, p.message) for p in raised.value.problems if p.place]


def test_a_term_that_doubles_with_each_step_is_a_fault() -> None:
    """Terms that use each other twice have to end; a long one that does not, is none."""
    doubling = "".join(f't{n} = "t{n - 1} and (locked or not t{n - 1})"\n' for n in range(1, 20))
    rule = '[rule.a]\ntitle = "A"\nmust = "{}"\nseverity = "low"\n'
    text = f'title = "T"\n[terms]\nt0 = "enabled"\n{doubling}' + rule.format("t19")
    (first, *_) = problems_of(text)
    assert "works out to more than 20,000 parts" in first[2]
    short = "".join(line for line in doubling.splitlines(keepends=True)[:9])
    read_rulebook(f'title = "T"\n[terms]\nt0 = "enabled"\n{short}' + rule.format("t9"), "x.toml")


def test_all_faults_are_found_at_once_each_at_its_place() -> None:
    """Line and column are those of the file, inside strings of several lines and with escapes too."""
    assert problems_of(FAULTY) == [
        (2, 11, 'there is no setting "sevrity" here'),
        (4, 8, '"soon" is no limit'),
        (7, 8, '"kind" is the name of a fact already'),
        (8, 17, '"persn" is none of the words it can be'),
        (11, 8, 'no verdict can be given for each "kee"'),
        (13, 12, '"hgh" is no severity'),
        (15, 9, "this has to be text, not a whole number"),
        (19, 12, 'an account has no column "creatd"'),
        (19, 50, '"bcript" in that list is none of the words it can be'),
        (21, 2, '"severity" is missing'),
        (21, 2, '"must" is missing'),
    ]


@pytest.mark.parametrize(
    ("text", "line", "message"),
    [
        ("title = ", 1, "this is not TOML"),
        ("title = 'a'\ntitle = 'b'\n", 2, "this is not TOML"),
        ("[rule.a]\n[rule.a]\n", 2, "this is not TOML"),
        ("a = " + "[" * 5000, 1, ""),
        ("title = 'x'", 1, "there is no rule in this book"),
        ("title = 'x'\nrule = 3", 2, "this has to be a table"),
        ("title = 'x'\n[rule]\na = 3", 3, "this has to be a table, not a number"),
        (
            "title = 'x'\n[terms]\na = 3\n[rule.r]\ntitle=''\nmust='a'\nseverity='low'",
            3,
            "a term is an expression",
        ),
        ("\x00", 1, "this is not TOML"),
    ],
)
def test_what_is_no_rulebook_is_refused(text: str, line: int, message: str) -> None:
    """With the line, never with a traceback."""
    first = problems_of(text)[0]
    assert first[0] == line
    assert message in first[2]


def test_a_sound_book_is_read() -> None:
    """Limits keep their types; what nobody uses is remarked on."""
    book = read_rulebook(
        """
title = "T"
edition = "1"
[limits]
age = "90d"
n = 3
when = 2026-01-01
words = ["otp"]
[terms]
spare = "enabled"
spare-too = "not spare"
[rule.r]
title = "R"
must = "age(created) <= limit.age and failed-attempts < limit.n and created < limit.when"
severity = "critical"
cite = ["X 1"]
advice = "Do."
""",
        "r.toml",
    )
    (rule,) = book.rules
    assert (rule.severity, rule.cite, rule.advice, rule.who.text) == (
        Severity.CRITICAL,
        ("X 1",),
        "Do.",
        "true",
    )
    assert [constant_text(limit) for limit in book.limits.values()] == [
        "90 d",
        "3",
        "2026-01-01",
        "otp",
    ]
    assert book.remarks == (
        "limit.words is set, but no rule uses it",
        'the term "spare" is not used by any rule',
        'the term "spare-too" is not used by any rule',
    )


def test_a_book_of_a_thousand_rules_is_checked_whole() -> None:
    """All of its faults are there, not only the first."""
    rules = "".join(
        f"[rule.r{n}]\ntitle = 'R{n}'\nseverity = 'low'\nwho = \"kind = person and staff-{n % 50}\"\n"
        f'must = "age(created) <= {n}d or some factor (state = active and phishing-resistant)"\n'
        for n in range(1000)
    )
    terms = "[terms]\n" + "".join(f'staff-{n} = "enabled and failed-attempts < {n}"\n' for n in range(50))
    book = read_rulebook(f"title = 'big'\n{terms}{rules}", "big.toml")
    assert len(book.rules) == 1000
    assert (
        len(
            problems_of(f"title = 'big'\n{terms}{rules.replace('enabled', 'x').replace('created', 'creatd')}")
        )
        == 1000
    )


@examples(300)
@given(
    st.text(max_size=60),
    st.text("abkinders=<>()[]'.-+90d ", max_size=60),
    st.sampled_from(["who", "must", "each", "x"]),
)
def test_any_text_is_read_or_refused(anything: str, like: str, key: str) -> None:
    """As a whole book, and as an expression in one: never a traceback, always a place."""
    quoted = like.replace("'''", "")
    for text in (
        anything,
        f"title = 'T'\n[terms]\nt = '''{quoted}'''\n[rule.r]\ntitle = 't'\nseverity = 'low'\nmust = 't'\n{key} = '''{quoted}'''",
    ):
        try:
            read_rulebook(text, "r.toml")
        except KeymalletError as error:
            assert all(problem.place and problem.place.line for problem in error.problems)


@pytest.mark.parametrize(
    ("who", "is_fault"),
    [
        ("false", True),
        ("enabled and not enabled", True),
        ("kind = person and enabled and kind = guest", True),
        ("staff and kind = guest", True),
        ("false or enabled and false", True),
        ("not staff and staff", True),
        ("kind = person or kind = guest", False),
        ("kind = person and not kind = guest", False),
        ("enabled and not locked", False),
        ("true", False),
    ],
)
def test_a_rule_that_is_for_nobody_is_a_fault(who: str, is_fault: bool) -> None:
    """It would be met by everybody for ever, and nobody would know why."""
    text = f"title = 'T'\n[terms]\nstaff = 'kind = person and enabled'\n[rule.r]\ntitle = 'R'\nwho = '{who}'\nmust = 'enabled and staff'\nseverity = 'low'\n"
    if not is_fault:
        assert read_rulebook(text, "book.toml").rules
        return
    ((line, _, message),) = problems_of(text)
    assert line == 6 and "for nobody" in message


def test_a_faulty_term_is_one_fault() -> None:
    """Rules that rest on it are not told to be for nobody, nor is anything else said of its uses."""
    terms = "title = 'T'\n[terms]\nx = 'nonsense > 3'\ny = 3\nz = 'x and y'\n"
    rule = "[rule.{}]\ntitle = 'R'\nseverity = 'low'\nwho = '{}'\nmust = '{}'\n"
    text = terms + rule.format("r", "x and enabled", "y or enabled") + rule.format("s", "z", "not z")
    assert [line for line, _, _ in problems_of(text)] == [3, 4]


@pytest.mark.parametrize(("column", "hint"), [("issued", "latest key.issued"), ("kind", "write key")])
def test_a_column_where_rows_are_asked_about(column: str, hint: str) -> None:
    """What may have been meant is said: the latest of an instant, or the rows themselves."""
    text = f"title = 'T'\n[rule.r]\ntitle = 'R'\nmust = 'some key.{column}'\nseverity = 'low'\n"
    with pytest.raises(KeymalletError) as raised:
        read_rulebook(text, "book.toml")
    assert [problem.hint for problem in raised.value.problems] == [hint]


A_BOOK = "title = 'T'\n[rule.r]\ntitle = 'R'\nmust = 'enabled'\nseverity = 'low'\n"


def test_a_question_outside_a_book_has_to_be_a_condition_or_not() -> None:
    """A condition that is an instant is a fault; a value may be either."""
    book = read_rulebook(A_BOOK, "book.toml")
    assert read_value("created", ACCOUNT, book, "--show").type.kind is Kind.INSTANT
    assert read_condition("created is known", ACCOUNT, book, "who").type.kind is Kind.FLAG
    with pytest.raises(KeymalletError, match="instant"):
        read_condition("created", ACCOUNT, book, "who")
