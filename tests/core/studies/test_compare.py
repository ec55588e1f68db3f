"""What changes from one rulebook to another, in its text."""

from __future__ import annotations

import pytest

from keymallet.core.rulebook.reading import read_rulebook
from keymallet.core.studies.compare import compare

BOOK = '[limits]\nage = "{}"\n[rule.a]\ntitle = "A"\nmust = "{}"\nseverity = "low"\n'


def changes(before: tuple[str, str], after: tuple[str, str]) -> list[str]:
    books = [read_rulebook(f'title = "T"\n{BOOK.format(*each)}', "t.toml") for each in (before, after)]
    return [str(change) for change in compare(books[0], books[1], None)]


@pytest.mark.parametrize(
    ("before", "after", "told"),
    [
        ("enabled", "enabled", False),
        ("enabled", "not enabled", True),
        ("enabled", "enabled and interactive", True),
        ("enabled and interactive", "enabled and locked", True),
        ("enabled and interactive", "enabled and interactive and locked", True),
        ("kind = person", "kind = guest", True),
        ("kind in [person]", "kind in [person, guest]", True),
        ("age(created) <= limit.age", "age(created) < limit.age", True),
    ],
)
def test_a_change_of_what_is_asked_is_told(before: str, after: str, told: bool) -> None:
    """Another operator, another word, one condition more: each is a change; the same text is none."""
    assert bool(changes(("90d", before), ("90d", after))) is told


def test_a_change_of_a_limit_is_told_once() -> None:
    """As the limit's, not as that of every rule that uses it."""
    found = changes(("90d", "age(created) <= limit.age"), ("60d", "age(created) <= limit.age"))
    assert len(found) == 1 and "age" in found[0]
