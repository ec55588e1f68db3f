"""Who may unlock an account: what the estate says, as somebody on the telephone is told it."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.support import run

ACCOUNTS = """login,kind,locked,cause,admin
ada,person,yes,failed-attempts,no
bea,person,yes,failed-attempts,yes
cem,person,yes,administrator,no
dov,person,yes,,no
eli,,yes,failed-attempts,no
fay,person,no,,no
svc,service,yes,failed-attempts,no
gus,person,yes,failed-attempts,
"""
MAP = """[account.columns]
name = "login"
kind = "kind"
locked = "locked"
lock-cause = "cause"
privileged = "admin"
"""
ESTATE = """organisation = "Tea Works"
clock = "UTC"
rulebook = "rulebook.toml"

[source.desk]
read = "csv"
map = "map.toml"
files = { account = "accounts.csv" }
"""
UNLOCKS = """
[[unlocks]]
who = "powerful"
by = "security, 4700"
say = "Two people ask."

[[unlocks]]
who = "kind = person"
causes = ["failed-attempts", "inactivity"]
by = "service desk, 4711"

[[unlocks]]
causes = ["administrator"]
by = "whoever locked it"
"""
BOOK = """title = "Ours"
[terms]
powerful = "privileged"
[rule.locks]
title = "Locks are looked at"
who = "kind = person"
must = "not locked"
severity = "low"
"""


@pytest.fixture
def estate(tmp_path: Path) -> Path:
    for name, text in (("accounts.csv", ACCOUNTS), ("map.toml", MAP), ("rulebook.toml", BOOK)):
        (tmp_path / name).write_text(text)
    (tmp_path / "estate.toml").write_text(ESTATE + UNLOCKS)
    return tmp_path


def told(folder: Path, who: str) -> str:
    return " ".join(run("show", who, cwd=folder).stdout.split("verdicts:")[0].split())


DESK = "unlock may be unlocked by service desk, 4711"
SECURITY = "unlock may be unlocked by security, 4700 Two people ask."
LOCKER = "unlock may be unlocked by whoever locked it"
NOBODY = "who may unlock it is not written down"


@pytest.mark.parametrize(
    ("who", "expected", "never"),
    [
        ("ada", [DESK], [SECURITY, LOCKER, "perhaps", NOBODY]),
        ("bea", [SECURITY], [DESK, LOCKER, "perhaps", NOBODY]),
        ("cem", [LOCKER], [SECURITY, DESK, "perhaps", NOBODY]),
        ("svc", [NOBODY], [SECURITY, DESK, LOCKER, "perhaps"]),
        ("fay", [], ["may be unlocked", NOBODY]),
        # What locked it is not known: neither of the two can be told for sure.
        ("dov", ["perhaps may be unlocked by service desk, 4711, if: locked because of failed-attempts or "
                 "inactivity (which is not known)", "perhaps may be unlocked by whoever locked it, if:", NOBODY], [SECURITY]),
        ("eli", ["perhaps may be unlocked by service desk, 4711, if: kind = person (which is not known)", NOBODY], [LOCKER]),
        ("gus", ["perhaps may be unlocked by security, 4700, if: powerful (which is not known) Two people ask.", DESK],
         [LOCKER, NOBODY]),
    ],
)  # fmt: skip
def test_the_first_that_fits(estate: Path, who: str, expected: list[str], never: list[str]) -> None:
    """By whom it is and by what locked it; what cannot be told is no yes and no no."""
    said = told(estate, who)
    assert all(each in said for each in expected), said
    assert not [each for each in never if each in said], said


def test_an_estate_that_says_nothing(estate: Path) -> None:
    (estate / "estate.toml").write_text(ESTATE)
    assert NOBODY in told(estate, "ada") and "unlock" not in told(estate, "fay")


@pytest.mark.parametrize(
    ("before", "after", "said"),
    [
        ('who = "powerful"', 'who = "powerfull"', "estate.toml: [[unlocks]] 1:1:1"),
        ('who = "powerful"', 'who = "name"', "estate.toml: [[unlocks]] 1:1:1"),
        ('"inactivity"', '"boredom"', '"boredom" is none of what it can be'),
        ('by = "whoever locked it"', 'by = " "', "it has to say who may unlock"),
        ('by = "whoever locked it"', "", '"by" is missing'),
        ("causes =", "cause =", "cause"),
    ],
)
def test_a_fault_is_named(estate: Path, before: str, after: str, said: str) -> None:
    """By whoever needs it, and by the check of the rules whose names it uses."""
    told(estate, "ada")
    (estate / "estate.toml").write_text((ESTATE + UNLOCKS).replace(before, after))
    for words in (("show", "ada"), ("rules", "check")):
        assert said in run(*words, cwd=estate, expect=2).stderr
