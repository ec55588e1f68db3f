"""A question in the rule language: which columns are shown where nobody says."""

from __future__ import annotations

from keymallet.core.facts.declaration import ACCOUNT, PERSON
from keymallet.core.rulebook.question import read_condition
from keymallet.core.rulebook.reading import read_rulebook
from keymallet.core.studies.query import usual_columns

A_BOOK = "title = 'T'\n[rule.r]\ntitle = 'R'\nmust = 'enabled'\nseverity = 'low'\n"


def test_what_a_question_shows_without_being_told() -> None:
    """Who it is, and what was asked about; the name is the account's own, of a person it is a column."""
    book = read_rulebook(A_BOOK, "book.toml")
    asked = read_condition("kind = person and name = 'x' and locked", ACCOUNT, book, "who")
    of_account = usual_columns(ACCOUNT, asked)
    assert {"kind", "locked"} <= set(of_account) and not {"name", "account"} & set(of_account)
    assert "name" in usual_columns(PERSON, read_condition("name = 'x'", PERSON, book, "who"))
