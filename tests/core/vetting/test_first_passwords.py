"""What is told of first passwords, each worked out by hand."""

from __future__ import annotations

import random
import string
from datetime import UTC, datetime

import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from keymallet.core.vetting.batch import PASSWORD, Batch
from keymallet.core.vetting.first_passwords import marks_of_passwords
from tests.profiles import examples

AT = datetime(2026, 11, 24, tzinfo=UTC)


def marks(
    *passwords: str | None, display: str = "Rena Arvacher", login: str = "r.arvacher"
) -> dict[str, list[object]]:
    """What is told of the passwords of a batch, row by row."""
    names = [login if place == 0 else f"other-{place}" for place in range(len(passwords))]
    shown = [display, *["-"] * (len(passwords) - 1)]
    batch = Batch("b.csv", written=pl.Series(names, dtype=pl.String), lines=list(range(2, len(names) + 2)))
    batch.tables["account"] = pl.DataFrame({"name": names, "display": shown})
    batch.tables["planned"] = pl.DataFrame(
        {"account": names, PASSWORD: pl.Series(passwords, dtype=pl.String)}
    )
    people = pl.DataFrame({"unit": pl.Series(["Stations"] * len(names))})
    told = marks_of_passwords(batch, "Gentian Valley Railway", people, AT)
    return {name: values.to_list() for name, values in told.items()}


@pytest.mark.parametrize(
    ("password", "by"),
    [
        ("password", ["common"]),
        ("Winter-kT9#xq", ["season"]),
        ("W1nt3r-kT9#xq", ["season"]),
        ("kT9#xq-Fr\u00fchling", ["season"]),
        ("9#Mai#Kx7pT%w", ["month"]),
        ("kT#Oktober9xQ", ["month"]),
        ("xK#q2026-tR%w", ["year"]),
        ("xK#q2024-tR%w", ["year"]),
        ("xK#q1984-tR%w", []),
        ("xK#q20261-tR%w", []),
        ("G3nt1an#tRw%9", ["organisation"]),
        ("#tRw-Railway%9", ["organisation"]),
        ("#Arvacher%9tRw", ["name"]),
        ("#tRw%9-Rena", ["name"]),
        ("#tRw%9-xRenax", []),
        ("%9Stations#tRw", ["name"]),
        ("R.Arvacher#9%tRw", ["login", "name"]),
        ("qwertz", ["common", "keyboard"]),
        ("lkjhgfds", ["keyboard"]),
        ("xq#98765432", ["keyboard"]),
        ("kX9#maiPq7%tRw", []),
        ("aB3xKq9tRw7mZp2L", []),
    ],
)
def test_what_a_password_can_be_guessed_by(password: str, by: list[str]) -> None:
    """Words stand for themselves, in other signs too; what is short has to stand alone; other years are numbers."""
    found = marks(password)["initial-guessable"][0]
    assert (isinstance(found, list) and sorted(found) == sorted(by)) or set(by) <= set(found) - {
        "common"
    } | set(by)
    assert isinstance(found, list)
    # Whether the estimator finds a password common besides is its own matter.
    assert set(found) - {"common"} == set(by) - {"common"} and set(by) <= set(found)


def test_length_classes_and_strength() -> None:
    """Characters, not bytes; classes of letters of any alphabet; nothing where there is no password."""
    told = marks("abc", "aB3\u00e4\u00d6", "aB3 #", None, "")
    assert told["initial-length"] == [3, 5, 5, None, None]
    assert told["initial-classes"] == [1, 3, 4, None, None]
    assert told["initial-strength"][3:] == [None, None]
    weak, strong = marks("123456", "aB3xKq9tRw7mZp2L")["initial-strength"]
    assert isinstance(weak, int) and isinstance(strong, int) and weak < 2 and strong >= 15
    assert marks(None)["initial-guessable"] == [[]]


def test_shared_passwords_name_the_others() -> None:
    """At most ten of them, never the row itself; none shares what it does not have."""
    told = marks("same", "own", "same", None, None)["initial-shared-with"]
    assert told == [["other-2"], [], ["r.arvacher"], [], []]
    many = marks(*["same"] * 30)["initial-shared-with"]
    assert all(isinstance(each, list) and len(each) == 10 for each in many)
    assert all(isinstance(each, list) and f"other-{place}" not in each for place, each in enumerate(many))


def test_one_pattern_with_a_number() -> None:
    """A number that counts, wherever it stands; two numbers of which one is the same; random digits are no pattern."""
    assert marks("Kx-0412-q", "Kx-0413-q", "Kx-0499-q", "else")["initial-pattern-with"] == [2, 2, 2, 0]
    assert marks("Ab1c7", "Ab2c7", "Ab1c9")["initial-pattern-with"] == [1, 1, 1]
    assert marks("100", "101", "102")["initial-pattern-with"] == [2, 2, 2]
    assert marks("17", "914523", "40318855")["initial-pattern-with"] == [0, 0, 0]
    assert marks("Same1", "Same1")["initial-pattern-with"] == [0, 0]
    guessed = marks("Kx-0412-q", "Kx-0413-q")["initial-guessable"]
    assert guessed == [["counting"], ["counting"]]


@given(st.integers(0, 10**9))
@examples(30)
def test_random_passwords_are_not_blamed(seed: int) -> None:
    """A hundred of sixteen letters and digits: of one pattern, shared or guessable are none, but for rare chance."""
    chance = random.Random(seed)
    signs = string.ascii_letters + string.digits
    told = marks(*("".join(chance.choice(signs) for _ in range(16)) for _ in range(100)))
    assert not any(told["initial-shared-with"])
    assert sum(bool(each) for each in told["initial-guessable"]) <= 2
    assert sum(bool(each) for each in told["initial-pattern-with"]) <= 2
    assert min(each for each in told["initial-strength"] if isinstance(each, int)) >= 10
