"""Every rule of the railway's rulebook, with a case that breaches it, one that meets it, one out of scope."""

from __future__ import annotations

from datetime import timedelta
from importlib.resources import files
from typing import Any

import pytest

from keymallet.core.judge import judge
from keymallet.core.rulebook_text import read_rulebook
from keymallet.core.verdicts import Verdict
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
    "remote-password",
    "remote-key",
    "lock-stops",
    "failed-attempts",
    "person",
    "on-roster",
    "unit",
    "manager",
    "no-twin-in",
    "twin-differs",
]
SUPPLY: dict[str, dict[str, list[str]]] = {
    source: {
        "account": ACCOUNT_FACTS,
        "factor": ["kind", "state"],
        "key": "kind state issued last-used starts expires algorithm bits shared-with shared-with-root".split(),
        "grant": ["privileged", "mode", "via", "starts", "ends", "asks-proof"],
        "elevation": [],
        "person": ["status", "joins", "leaves", "contract", "unit", "manager"],
        "setting": "min-length classes max-age lock-after lock-for remote-password".split(),
    }
    for source in ("directory", "ticketing/tix-1", "cloud")
}
STAFF = {"kind": "person", "enabled": True, "labels": [], "has_password": True}
HOST = {"source": "ticketing/tix-1", "enabled": True, "has_password": True, "password_empty": False}
PASSKEY, OTP, SMS = ({"kind": kind, "state": "active"} for kind in ("passkey", "otp", "sms"))
ADMIN = {"privileged": True, "mode": "standing", "via": "group admins"}
PERSON = HOST | {"kind": "person", "interactive": True}
ROOT = HOST | {"stable_id": "0", "kind": "system", "remote_password": False, "remote_key": True}
LOCKED = PERSON | {"locked": True, "lock_stops": "password", "remote_key": True}
SSH = {
    "kind": "ssh-key",
    "state": "active",
    "algorithm": "ed25519",
    "bits": 256,
    "shared_with": [],
    "shared_with_root": False,
}
CERTIFICATE = SSH | {"kind": "ssh-certificate", "starts": days_ago(10)}
SUDO = ADMIN | {"asks_proof": True}
RULES = {"source": "ticketing/tix-1", "setting": "host rules"}
TIED = STAFF | {"of": 0, "on_roster": True, "unit": "Track", "manager": "7", "no_twin_in": []}
HELD = {"status": "present", "contract": "staff", "joins": days_ago(15), "unit": "Track", "manager": "7"}
CLOUD = TIED | {"source": "cloud", "twin_differs": []}
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
        ("breach", {"account": HOST | {"kind": "guest"}}),
        ("met", {"account": STAFF | {"kind": "guest", "ends": AT}}),
    ],
    "idle": [
        ("breach", {"account": STAFF | {"last_sign_in": days_ago(46)}}),
        ("breach", {"account": PERSON | {"last_sign_in": days_ago(46)}}),
        ("out of scope", {"account": ROOT | {"last_sign_in": days_ago(46)}}),
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
        ("breach", {"account": PERSON, "grant": SUDO | {"via": "direct"}}),
        ("met", {"account": STAFF, "grant": ADMIN}),
        ("out of scope", {"account": STAFF, "grant": ADMIN | {"via": "direct", "privileged": False}}),
    ],
    "little-standing-privilege": [
        ("breach", {"account": STAFF, "grant": [ADMIN] * 4}),
        ("met", {"account": STAFF, "grant": [ADMIN] * 3}),
        ("unproven", {"account": STAFF, "grant": [ADMIN] * 3 + [{"privileged": True}]}),
    ],
    "lock-leaves-key": [
        ("breach", {"account": LOCKED, "key": SSH}),
        ("met", {"account": LOCKED, "key": SSH | {"expires": AT}}),
        ("met", {"account": LOCKED | {"lock_stops": "everything"}, "key": SSH}),
        ("met", {"account": LOCKED | {"remote_key": False}, "key": SSH}),
        ("unproven", {"account": LOCKED, "key": {}}),
    ],
    "left-still-enabled": [
        ("breach", {"account": TIED, "person": HELD | {"status": "left"}}),
        ("breach", {"account": TIED, "person": HELD | {"leaves": AT}}),
        ("met", {"account": TIED, "person": HELD | {"leaves": AT + timedelta(microseconds=1)}}),
        ("out of scope", {"account": TIED | {"enabled": False}, "person": HELD | {"status": "left"}}),
        ("unproven", {"account": TIED, "person": {}}),
    ],
    "not-yet-joined-enabled": [
        ("breach", {"account": TIED, "person": HELD | {"status": "expected"}}),
        ("met", {"account": TIED, "person": HELD}),
    ],
    "nobodys-account": [
        ("breach", {"account": TIED | {"of": None, "on_roster": False}}),
        ("met", {"account": TIED}),
        ("unproven", {"account": TIED | {"on_roster": None}}),
    ],
    "person-without-account": [
        ("breach", {"account": TIED | {"of": None, "person": "9"}, "person": HELD}),
        ("breach", {"account": TIED | {"enabled": False, "person": "9"}, "person": HELD}),
        ("met", {"account": TIED, "person": HELD}),
        ("out of scope", {"account": STAFF, "person": HELD | {"joins": days_ago(14)}}),
        ("unproven", {"account": TIED | {"of": None, "unread": ["person"]}, "person": HELD}),
    ],
    "unit-differs": [
        ("breach", {"account": TIED, "person": HELD | {"unit": "Offices"}}),
        ("met", {"account": TIED, "person": HELD}),
    ],
    "manager-differs": [
        ("breach", {"account": TIED, "person": HELD | {"manager": "8"}}),
        ("met", {"account": TIED, "person": HELD}),
        ("out of scope", {"account": TIED, "person": HELD | {"manager": None}}),
    ],
    "administrator-apart": [
        ("breach", {"account": TIED, "grant": ADMIN, "person": HELD}),
        ("met", {"account": TIED, "grant": ADMIN, "person": HELD, "others": [TIED]}),
        ("breach", {"account": TIED, "grant": ADMIN, "person": HELD, "others": [CLOUD]}),
    ],
    "twin-in-cloud": [
        ("breach", {"account": TIED | {"no_twin_in": ["cloud"]}}),
        ("met", {"account": TIED}),
        ("unproven", {"account": TIED | {"no_twin_in": None}}),
    ],
    "cloud-account-known": [
        ("breach", {"account": CLOUD | {"no_twin_in": ["directory"]}}),
        ("met", {"account": CLOUD}),
    ],
    "twins-agree": [
        ("breach", {"account": CLOUD | {"twin_differs": ["unit Track, in directory/a Offices"]}}),
        ("met", {"account": CLOUD}),
        ("out of scope", {"account": TIED | {"twin_differs": ["unit"]}}),
    ],
    "near-lockout": [
        ("breach", {"account": PERSON | {"failed_attempts": 3, "locked": False}}),
        ("met", {"account": PERSON | {"failed_attempts": 2, "locked": False}}),
        ("met", {"account": PERSON | {"failed_attempts": 5, "locked": True}}),
    ],
    "root-signs-in-directly": [
        ("breach", {"account": ROOT, "key": SSH}),
        ("breach", {"account": ROOT | {"remote_password": True, "password_locked": False}}),
        ("met", {"account": ROOT | {"remote_password": True, "password_locked": True}}),
        ("met", {"account": ROOT | {"remote_key": False}, "key": SSH}),
        ("met", {"account": ROOT, "key": SSH | {"state": "revoked"}}),
    ],
    "root-key-not-shared": [
        ("breach", {"account": PERSON, "key": SSH | {"shared_with_root": True}}),
        ("met", {"account": PERSON, "key": SSH}),
        ("out of scope", {"account": ROOT, "key": SSH | {"shared_with_root": True}}),
    ],
    "key-of-one-person": [
        ("breach", {"account": PERSON, "key": SSH | {"shared_with": ["ticketing/tix-2/o.other"]}}),
        ("met", {"account": PERSON, "key": SSH}),
        ("unproven", {"account": PERSON, "key": SSH | {"shared_with": None}}),
    ],
    "ssh-key-strength": [
        ("breach", {"account": PERSON, "key": SSH | {"algorithm": "rsa", "bits": 2048}}),
        ("breach", {"account": PERSON, "key": SSH | {"algorithm": "dsa", "bits": 1024}}),
        ("met", {"account": PERSON, "key": SSH | {"algorithm": "rsa", "bits": 3072}}),
    ],
    "key-outlives-account": [
        ("breach", {"account": PERSON | {"ends": AT}, "key": SSH}),
        ("breach", {"account": PERSON | {"enabled": False}, "key": SSH}),
        ("met", {"account": PERSON | {"ends": AT + timedelta(microseconds=1)}, "key": SSH}),
        ("out of scope", {"account": PERSON | {"ends": AT}, "key": SSH | {"expires": AT}}),
    ],
    "temporary-key-has-end": [
        ("breach", {"account": PERSON | {"kind": "guest"}, "key": SSH}),
        ("met", {"account": PERSON | {"kind": "guest"}, "key": SSH | {"expires": AT + timedelta(days=9)}}),
        ("out of scope", {"account": PERSON, "key": SSH}),
    ],
    "certificate-life": [
        ("breach", {"account": PERSON, "key": CERTIFICATE}),
        ("breach", {"account": PERSON, "key": CERTIFICATE | {"expires": AT + timedelta(days=20, seconds=1)}}),
        ("met", {"account": PERSON, "key": CERTIFICATE | {"expires": AT + timedelta(days=20)}}),
    ],
    "keys-not-passwords": [
        ("breach", {"setting": RULES | {"remote_password": True}}),
        ("met", {"setting": RULES | {"remote_password": False}}),
        ("out of scope", {"setting": RULES}),
    ],
    "setting-password-length": [
        ("breach", {"setting": RULES | {"min_length": 11}}),
        ("breach", {"setting": RULES}),
        ("met", {"setting": RULES | {"min_length": 12}}),
    ],
    "setting-password-classes": [
        ("breach", {"setting": RULES | {"classes": 1}}),
        ("met", {"setting": RULES | {"classes": 2}}),
    ],
    "setting-password-age": [
        ("breach", {"setting": RULES}),
        ("breach", {"setting": RULES | {"max_age": timedelta(days=181)}}),
        ("met", {"setting": RULES | {"max_age": timedelta(days=180)}}),
    ],
    "setting-lockout-after": [
        ("breach", {"setting": RULES}),
        ("breach", {"setting": RULES | {"lock_after": 11}}),
        ("met", {"setting": RULES | {"lock_after": 10}}),
    ],
    "setting-lockout-for": [
        ("breach", {"setting": RULES | {"lock_for": timedelta(minutes=29)}}),
        ("met", {"setting": RULES | {"lock_for": timedelta(minutes=30)}}),
        ("out of scope", {"setting": RULES}),
    ],
    "sudo-asks-proof": [
        ("breach", {"account": PERSON, "grant": SUDO | {"asks_proof": False}}),
        ("met", {"account": PERSON, "grant": SUDO}),
        ("out of scope", {"account": STAFF, "grant": SUDO | {"asks_proof": False}}),
    ],
    "sudo-time-over": [
        ("breach", {"account": PERSON, "grant": SUDO | {"ends": AT}}),
        ("met", {"account": PERSON, "grant": SUDO | {"ends": AT + timedelta(microseconds=1)}}),
        ("out of scope", {"account": PERSON, "grant": SUDO}),
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
        if name not in ("account", "others")
    }
    children = {name: [row | {"of": 0} for row in each] for name, each in rows.items()}
    accounts = [facts.get("account", {}), *facts.get("others", [])]
    found = evidence([{"source": "directory"} | account for account in accounts], SUPPLY, **children)
    code = judge(found, BOOK, AT, CLOCK).codes[rule].to_list()[0]
    assert Verdict(code).word == verdict
