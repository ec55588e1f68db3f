"""Every rule of the railway's rulebook, with a case that breaches it, one that meets it, one out of scope."""

from __future__ import annotations

from datetime import timedelta
from importlib.resources import files
from typing import Any

import pytest

from keymallet.core.judge import Verdict, judge
from keymallet.core.rulebook import read_rulebook
from tests.support import AT, CLOCK, days_ago, evidence

BOOK = read_rulebook(
    files("keymallet.demo").joinpath("estate/rulebook.toml").read_text("utf-8"), "rulebook.toml"
)
ACCOUNT_FACTS = [
    "kind",
    "enabled",
    "ends",
    "last-sign-in",
    "created",
    "labels",
    "locked",
    "locked-until",
    "interactive",
    "has-password",
    "password-empty",
    "password-scheme",
    "initial-password",
    "password-changed",
    "password-never-expires",
    "stable-id",
]
SUPPLY: dict[str, dict[str, list[str]]] = {
    source: {
        "account": ACCOUNT_FACTS,
        "factor": ["kind", "state"],
        "key": ["kind", "state", "issued", "last-used"],
        "grant": ["privileged", "mode", "via", "starts", "ends"],
        "elevation": [],
    }
    for source in ("directory", "ticketing/tix-1")
}
STAFF = {"kind": "person", "enabled": True, "labels": [], "has_password": True}
HOST = {"source": "ticketing/tix-1", "enabled": True, "has_password": True, "password_empty": False}
PASSKEY, OTP, SMS = ({"kind": kind, "state": "active"} for kind in ("passkey", "otp", "sms"))
ADMIN = {"privileged": True, "mode": "standing", "via": "group admins"}
KEY = {"kind": "api-key", "state": "active", "last_used": days_ago(1)}

CASES: dict[str, list[tuple[str, dict[str, Any]]]] = {
    "admin-strong-factor": [
        ("breach", {"account": STAFF, "grant": ADMIN, "factor": OTP}),
        ("met", {"account": STAFF, "grant": ADMIN, "factor": PASSKEY}),
        ("out of scope", {"account": STAFF, "grant": ADMIN | {"mode": "on-request"}}),
    ],
    "emergency-ready": [
        ("breach", {"account": {"kind": "emergency", "enabled": False}, "factor": PASSKEY}),
        ("met", {"account": {"kind": "emergency", "enabled": True}, "factor": PASSKEY}),
        ("out of scope", {"account": STAFF}),
    ],
    "staff-second-factor": [
        ("breach", {"account": STAFF, "factor": {"kind": "password", "state": "active"}}),
        ("met", {"account": STAFF, "factor": SMS}),
        ("unproven", {"account": STAFF, "factor": {"kind": "otp"}}),
    ],
    "more-than-a-phone-line": [
        ("breach", {"account": STAFF, "factor": SMS}),
        ("met", {"account": STAFF, "factor": [SMS, OTP]}),
        ("out of scope", {"account": STAFF, "factor": OTP}),
    ],
    "password-empty": [
        ("breach", {"account": HOST | {"password_empty": True}}),
        ("met", {"account": HOST}),
        ("unproven", {"account": HOST | {"password_empty": None}}),
    ],
    "password-scheme": [
        ("breach", {"account": HOST | {"password_scheme": "md5"}}),
        ("met", {"account": HOST | {"password_scheme": "yescrypt"}}),
        ("out of scope", {"account": STAFF | {"password_scheme": "md5"}}),
    ],
    "password-handed-out": [
        ("breach", {"account": STAFF | {"initial_password": True}}),
        ("met", {"account": STAFF | {"initial_password": False}}),
        ("unproven", {"account": STAFF}),
    ],
    "password-age": [
        ("breach", {"account": STAFF | {"password_changed": days_ago(180) - timedelta(microseconds=1)}}),
        ("met", {"account": STAFF | {"password_changed": days_ago(180)}}),
        ("unproven", {"account": STAFF}),
    ],
    "password-never-expires": [
        ("breach", {"account": STAFF | {"password_never_expires": True}}),
        ("met", {"account": STAFF | {"password_never_expires": False}}),
        ("out of scope", {"account": {"kind": "service", "enabled": True, "password_never_expires": True}}),
    ],
    "ended-still-enabled": [
        ("breach", {"account": STAFF | {"ends": AT}}),
        ("met", {"account": STAFF | {"ends": AT + timedelta(microseconds=1)}}),
        ("out of scope", {"account": STAFF | {"enabled": False, "ends": AT}}),
    ],
    "temporary-has-end": [
        ("breach", {"account": STAFF | {"labels": ["contractor"]}}),
        ("breach", {"account": STAFF | {"kind": "guest"}}),
        ("met", {"account": STAFF | {"kind": "guest", "ends": AT}}),
    ],
    "idle": [
        ("breach", {"account": STAFF | {"last_sign_in": days_ago(46)}}),
        ("met", {"account": STAFF | {"last_sign_in": days_ago(45)}}),
        ("out of scope", {"account": STAFF}),
    ],
    "never-used": [
        ("breach", {"account": STAFF | {"created": days_ago(31)}}),
        ("met", {"account": STAFF | {"created": days_ago(30)}}),
        ("unproven", {"account": STAFF | {"unread": ["last-sign-in"]}}),
    ],
    "locked": [
        ("breach", {"account": STAFF | {"locked": True}}),
        ("met", {"account": STAFF | {"locked": True, "locked_until": AT}}),
        ("unproven", {"account": STAFF}),
    ],
    "service-no-session": [
        ("breach", {"account": {"kind": "service", "enabled": True, "interactive": True}}),
        ("met", {"account": {"kind": "service", "enabled": True, "interactive": False}}),
        ("unproven", {"account": {"enabled": True, "interactive": True}}),
    ],
    "no-login-no-password": [
        ("breach", {"account": HOST | {"interactive": False}}),
        ("met", {"account": HOST | {"interactive": False, "has_password": False}}),
        ("out of scope", {"account": HOST | {"interactive": True}}),
    ],
    "one-user-id-0": [
        ("breach", {"account": HOST | {"stable_id": "0", "name": "toor"}}),
        ("met", {"account": HOST | {"stable_id": "0", "name": "root"}}),
        ("out of scope", {"account": STAFF | {"stable_id": "0"}}),
    ],
    "api-key-age": [
        ("breach", {"account": STAFF, "key": KEY | {"issued": days_ago(91)}}),
        ("met", {"account": STAFF, "key": KEY | {"issued": days_ago(90)}}),
        ("out of scope", {"account": STAFF, "key": KEY | {"issued": days_ago(91), "state": "revoked"}}),
    ],
    "api-key-of-disabled": [
        ("breach", {"account": STAFF | {"enabled": False}, "key": KEY}),
        ("met", {"account": STAFF, "key": KEY}),
        ("unproven", {"account": STAFF | {"enabled": None}, "key": KEY}),
    ],
    "api-key-unused": [
        ("breach", {"account": STAFF, "key": KEY | {"issued": days_ago(31), "last_used": None}}),
        ("met", {"account": STAFF, "key": KEY | {"issued": days_ago(31)}}),
        ("out of scope", {"account": STAFF, "key": KEY | {"issued": days_ago(30), "last_used": None}}),
    ],
    "privilege-through-groups": [
        ("breach", {"account": STAFF, "grant": ADMIN | {"via": "direct"}}),
        ("met", {"account": STAFF, "grant": ADMIN}),
        ("out of scope", {"account": STAFF, "grant": ADMIN | {"via": "direct", "privileged": False}}),
    ],
    "little-standing-privilege": [
        ("breach", {"account": STAFF, "grant": [ADMIN] * 4}),
        ("met", {"account": STAFF, "grant": [ADMIN] * 3}),
        ("unproven", {"account": STAFF, "grant": [ADMIN] * 3 + [{"privileged": True}]}),
    ],
}


def test_every_rule_has_its_cases() -> None:
    """One that breaches it and one that meets it at least."""
    assert CASES.keys() == {rule.id for rule in BOOK.rules}
    assert all({"breach", "met"} <= {verdict for verdict, _ in cases} for cases in CASES.values())


@pytest.mark.parametrize(
    ("rule", "verdict", "facts"),
    [(rule, *case) for rule, cases in CASES.items() for case in cases],
    ids=lambda value: value if isinstance(value, str) else "",
)
def test_cases(rule: str, verdict: str, facts: dict[str, Any]) -> None:
    """The verdict is the one the case was written for."""
    rows = {
        name: value if isinstance(value, list) else [value]
        for name, value in facts.items()
        if name != "account"
    }
    children = {name: [row | {"of": 0} for row in each] for name, each in rows.items()}
    found = evidence([{"source": "directory"} | facts["account"]], SUPPLY, **children)
    (code,) = judge(found, BOOK, AT, CLOCK).codes[rule].to_list()[:1]
    assert Verdict(code).word == verdict
