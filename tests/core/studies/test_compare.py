"""What changes from one rulebook to another, in its text."""

from __future__ import annotations

import pytest

from keymallet.core.rulebook.reading import read_rulebook
from keymallet.core.studies.compare import LOOSENED, OTHERWISE, TIGHTENED, compare

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


TALLY = '[tally.t]\ntitle = "T"\ncount = "enabled"\nseverity = "low"\nbetween = {}\n'


@pytest.mark.parametrize(
    ("before", "after", "how"),
    [
        ("[2, 4]", "[3, 4]", TIGHTENED),
        ("[2, 4]", "[2, 3]", TIGHTENED),
        ("[2, 4]", "[1, 4]", LOOSENED),
        ("[2, 4]", "[2, 5]", LOOSENED),
        ("[2, 4]", "[3, 5]", OTHERWISE),
        ("[2, 4]", "[1, 3]", OTHERWISE),
    ],
)
def test_a_number_that_has_to_lie_elsewhere(before: str, after: str, how: str) -> None:
    """Within what it was it is stricter, around it looser, else neither."""
    books = [read_rulebook(f'title = "T"\n{TALLY.format(each)}', "t.toml") for each in (before, after)]
    (found,) = compare(books[0], books[1], None)
    assert found.how == how
