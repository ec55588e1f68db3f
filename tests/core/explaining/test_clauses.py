"""Conditions of the rule language as people would say them, and reasons as machines read them."""

from __future__ import annotations

import pytest

from keymallet.core.explaining.clauses import clause, thing
from keymallet.core.explaining.findings import findings
from keymallet.core.facts.declaration import TABLES
from keymallet.core.language import typed
from tests.support import days_ago, evidence, judged, rule


def parsed(must: str, each: str = "account", extra: str = "") -> typed.Typed:
    return judged(evidence([{}]), rule(must, each=each, extra=extra)).rulebook.rules[0].must


@pytest.mark.parametrize(
    ("must", "said", "opposite"),
    [
        ("enabled", "is switched on", "is switched off"),
        ("not locked", "is not locked", "is locked"),
        ("kind in [guest, shared]", "kind guest or shared", "kind other than guest or shared"),
        ("failed-attempts < 3", "fewer than 3 failed sign-ins", "at least 3 failed sign-ins"),
        ("3 > failed-attempts", "fewer than 3 failed sign-ins", "at least 3 failed sign-ins"),
        ("age(created) <= 90d", "created in the last 90 d", "created more than 90 d ago"),
        ("until(ends) > 0s", "ends in the future", "ended"),
        ("ends is known", "end date on record", "no end date on record"),
        ("length(groups) = 0", "in no group", "at least 1 in groups"),
        ("unit = 'Track'", "unit Track", "unit other than Track"),
        ("groups includes all of ['a', 'b']", "in groups a and b", "in groups not a and b"),
        ("some key (kind = api-key)", "has an API key", "has no API key"),
        ("enabled or locked", "is switched on or is locked", "is switched off and is not locked"),
        ("enabled and (locked or interactive)", "is switched on and (is locked or can open a session)",
         "is switched off or (is not locked and cannot open a session)"),
        ("count key (state = active) <= 1", "has at most 1 active key", "has more than 1 active key"),
        ("ends - starts <= 365d", "at most 365 d from starts to ends", "more than 365 d from starts to ends"),
        ("hour-of(starts) >= 6", "starts at hour at least 6", "starts at hour less than 6"),
        ("weekday-of(starts) in [monday, friday]", "starts on monday or friday", "starts not on monday or friday"),
        ("length(groups) <= 2", "at most 2 in groups", "more than 2 in groups"),
        ("person.status = present", "its person status on the staff list: present",
         "its person status on the staff list: other than present"),
    ],
)  # fmt: skip
def test_what_is_said_of_a_row(must: str, said: str, opposite: str) -> None:
    """And what is said where it is not so."""
    assert clause(parsed(must)) == said
    assert clause(parsed(must), False) == opposite


@pytest.mark.parametrize(
    ("asked", "one", "several"),
    [
        ("some factor (phishing-resistant and state = active)", "active phishing-resistant factor", "active phishing-resistant factors"),
        ("some factor (kind not in [password, sms])", "factor other than password or text message", "factors other than password or text message"),
        ("some key (kind = api-key and age(issued) > 90d)", "API key issued more than 90 d ago", "API keys issued more than 90 d ago"),
        ("some sign-in (outcome = success and age(at) <= 30d)", "successful sign-in made in the last 30 d", "successful sign-ins made in the last 30 d"),
        ("some grant (privileged and mode = standing)", "standing privileged right", "standing privileged rights"),
        ("some key (state = active and (expires is unknown or until(expires) > 0s))", "active key", "active keys"),
        ("some key", "key", "keys"),
    ],
)  # fmt: skip
def test_what_is_asked_about(asked: str, one: str, several: str) -> None:
    """A thing with what sets it apart: states in front of it, the rest behind."""
    node = parsed(asked)
    assert isinstance(node, typed.RowQuery)
    assert thing(TABLES[node.table], node.condition) == one
    assert thing(TABLES[node.table], node.condition, several=True) == several


def test_reasons_carry_a_template_and_its_arguments() -> None:
    """The value found, what is required, the limit by name and the rows, each as a machine reads it."""
    world = evidence([{"password_changed": days_ago(200), "enabled": False}], key=[
        {"of": 0, "key": "k1", "kind": "api-key", "state": "active"},
    ])  # fmt: skip
    asked = rule(
        "enabled and age(password-changed) <= limit.old and no key (state = active)",
        extra='[limits]\nold = "180d"',
    )
    (found,) = findings(judged(world, asked), structured=True).rows(named=True)
    nothing = {"found": None, "required": None, "limit": None, "rows": None}
    assert found["reasons"] == [
        nothing | {"template": "flag", "about": "enabled", "found": "false"},
        nothing | {"template": "limit", "about": "age(password-changed)", "found": "P200D", "required": "P180D", "limit": "old"},
        nothing | {"template": "such-a-row", "about": "no key (state = active)", "rows": ["API key k1"]},
    ]  # fmt: skip
    assert found["because"] == (
        "is switched off; also password set 2026-05-08, 200 d ago; limit 180 d; also active key: API key k1"
    )


def test_a_yes_or_no_is_told_with_what_makes_it_matter() -> None:
    """What it rests on, what is on record beside it, and what of `who` is no matter of course."""
    world = evidence(
        [{"interactive": False, "has_password": True, "initial_password": True, "password_changed": days_ago(3)}],
        grant=[{"of": 0, "role": "Root", "via": "direct", "privileged": True, "mode": "standing"}],
    )  # fmt: skip
    told = {
        must: findings(judged(world, rule(must, who) if who else rule(must)))["because"][0]
        for must, who in {
            "not has-password": "not interactive",
            "not initial-password": "",
            "not privileged": "",
        }.items()
    }
    assert told["not has-password"] == "has a password; in scope: cannot open a session"
    assert told["not initial-password"] == "still has the password it was handed (password set 2026-11-21)"
    assert told["not privileged"].startswith("is privileged now: standing privileged right")
    assert told["not privileged"].endswith(": Root")


def test_braces_in_names_are_no_places_for_values() -> None:
    """Whatever a rulebook or a source writes, it is told as it is."""
    world = evidence(
        [{"name": "{0}{}", "unit": "{}"}], key=[{"of": 0, "key": "{}", "label": "{x}", "state": "active"}]
    )
    for must in (
        "name = '{}{}'",
        "no key (label = '{x}')",
        "some key (label = '{}')",
        "name like '{*'",
        "unit in ['{y}']",
    ):
        for which in (must, f"not ({must})"):
            for row in findings(judged(world, rule(which))).rows(named=True):
                if row["verdict"] == "breach":
                    assert row["because"] and row["change"]
