"""The rows of ways in: what is shown together, what instead, and the level that each reaches."""

from __future__ import annotations

from typing import Any

import pytest

from keymallet.core.evaluating.context import EvaluationContext
from keymallet.core.facts.declaration import WAY_IN
from keymallet.core.linking.assurance import assurance_level
from keymallet.views.account import known_facts
from tests.support import AT, CLOCK, days_ago, evidence

ACCOUNT = {"enabled": True, "has-password": True, "locked": False, "ends": None}
HOST = ACCOUNT | {"remote-password": True, "remote-key": True, "remote-together": []}
ASKED = ACCOUNT | {"second-factor-required": True}
SSH = {
    "of": 0,
    "kind": "ssh-key",
    "key": "a",
    "digest": "a",
    "algorithm": "ed25519",
    "state": "active",
    "expires": None,
}
OTHER = SSH | {"key": "b", "digest": "b"}
OTP = {"of": 0, "kind": "otp", "state": "active"}


def ways(
    account: dict[str, Any], keys: list[dict[str, Any]] | None = None, factors: list[Any] | None = None
) -> list[tuple[Any, ...]]:
    """Over what, what is taken, the level, and whether it is open; None for a table leaves it out."""
    tables = {name: rows for name, rows in (("key", keys), ("factor", factors)) if rows is not None}
    context = EvaluationContext(evidence([account], **tables), AT, CLOCK)
    rows = known_facts(context, WAY_IN)
    return [
        (
            row["over"],
            "+".join(row["takes"]) if row["takes"] is not None else None,
            row["assurance"],
            row["open"],
        )
        for row in rows.iter_rows(named=True)
    ]


@pytest.mark.parametrize(
    ("account", "keys", "factors", "expected"),
    [
        # A password alone; whether more is asked for is not known where nobody tells of gates.
        (ACCOUNT | {"second-factor-required": False}, [], [], [("network", "password", 1, True)]),
        (ACCOUNT, [], [OTP], [("network", None, None, True)]),
        # What is enrolled and not asked for adds nothing.
        (ACCOUNT | {"second-factor-required": False}, [], [OTP], [("network", "password", 1, True)]),
        (ASKED, [], [OTP], [("network", "password+otp", 2, True)]),
        # Who is asked for what they do not have may enrol it then and there.
        (ASKED, [], [], [("network", "password", 1, True)]),
        (ASKED, [], [OTP | {"state": "suspended"}], [("network", "password", 1, True)]),
        (ASKED, [], [OTP | {"kind": "recovery-codes"}], [("network", "password", 1, True)]),
        (ASKED, [], None, [("network", None, None, True), ("network", None, 2, None)]),
        # No more than yes or no of the factors: of which kind they are does not matter for level 2.
        (
            ASKED | {"second-factor-registered": True},
            [],
            None,
            [("network", "password+second-factor", 2, True), ("network", None, 2, None)],
        ),
        (
            ASKED | {"second-factor-registered": False},
            [],
            None,
            [("network", "password", 1, True), ("network", None, 2, None)],
        ),
        (
            ASKED | {"accepted-factors": ["hardware-key", "passkey", "smartcard"]},
            [],
            [OTP, OTP | {"kind": "hardware-key"}],
            [("network", "password+hardware-key", 3, True), ("network", "hardware-key", 3, True)],
        ),
        # Who has another factor than the one that is asked for gets in as if there were none.
        (
            ASKED | {"accepted-factors": ["otp"]},
            [],
            [OTP | {"kind": "push"}],
            [("network", "password", 1, True)],
        ),
        # A passkey can be copied unless it is known that it cannot.
        (
            ACCOUNT | {"has-password": False},
            [],
            [OTP | {"kind": "passkey"}],
            [("network", "passkey", 2, True)],
        ),
        (
            ACCOUNT | {"has-password": False},
            [],
            [OTP | {"kind": "passkey", "exportable": False}],
            [("network", "passkey", 3, True)],
        ),
        # An empty password proves nothing, whatever is enrolled beside it.
        (
            ACCOUNT | {"has-password": False, "password-empty": True, "second-factor-required": False},
            [],
            [OTP],
            [("network", "password", 0, True)],
        ),
        # A key beside a password is another way, not a second factor.
        (
            HOST,
            [SSH],
            [OTP | {"kind": "software-key"}],
            [
                ("console", "password", 1, True),
                ("network", "password", 1, True),
                ("network", "software-key", 1, True),
            ],
        ),
        # Asked for one after the other, they are two factors.
        (
            HOST | {"remote-password": False, "remote-key": False, "remote-together": ["key-and-password"]},
            [SSH],
            [],
            [
                ("console", "password", 1, True),
                ("network", "password", 1, False),
                ("network", "software-key", 1, False),
                ("network", "software-key+password", 2, True),
            ],
        ),
        # Two keys are twice the same factor; with a password besides they are two.
        (
            HOST
            | {
                "has-password": False,
                "remote-key": False,
                "remote-together": ["two-keys", "two-keys-and-password"],
            },
            [SSH, OTHER | {"algorithm": "ed25519-sk"}],
            [],
            [
                ("network", "software-key", 1, False),
                ("network", "hardware-key", 1, False),
                ("network", "software-key+hardware-key", 1, True),
                ("network", "software-key+hardware-key+password", 2, False),
            ],
        ),
        # A key in hardware that asks for a PIN is two factors by itself; one that is only touched is one.
        (
            HOST | {"has-password": False},
            [
                SSH | {"algorithm": "ed25519-sk", "scope": "verify-required"},
                OTHER | {"algorithm": "ecdsa-sk"},
            ],
            [],
            [("network", "hardware-key", 3, True), ("network", "hardware-key", 1, True)],
        ),
        # What programs show, and a session that was proven before.
        (
            ACCOUNT | {"has-password": False},
            [SSH | {"kind": "api-key"}, SSH | {"kind": "session"}, SSH | {"kind": "reset-link"}],
            [],
            [
                ("service", "api-key", 1, True),
                ("service", "session", None, True),
                ("network", "reset-link", 1, True),
            ],
        ),
        # A factor of which the kind is not known may be a way of its own.
        (ACCOUNT | {"has-password": False}, [], [OTP | {"kind": None}], [("network", None, None, None)]),
    ],
)
def test_what_is_shown_together_and_what_instead(
    account: dict[str, Any], keys: Any, factors: Any, expected: Any
) -> None:
    """One row for each way, and the level that it reaches."""
    assert sorted(ways(account, keys, factors), key=str) == sorted(expected, key=str)


def test_two_keys_of_which_one_does_not_work() -> None:
    """Two different ones that work are needed; of several, those that last the longest together."""
    asked = HOST | {"has-password": False, "remote-key": False, "remote-together": ["two-keys"]}

    def both(*keys: dict[str, Any]) -> list[bool]:
        return [is_open for _, takes, _, is_open in ways(asked, list(keys), []) if takes and "+" in takes]

    assert both(SSH) == []
    assert both(SSH, SSH) == []
    assert both(SSH, OTHER) == [True]
    assert both(SSH, OTHER | {"scope": "signs certificates"}) == []
    assert both(SSH, OTHER | {"state": "inactive"}) == [False]
    assert both(OTHER | {"state": "inactive"}, SSH) == [False]
    assert both(SSH, OTHER | {"expires": days_ago(1)}) == [False]
    third = SSH | {"key": "c", "digest": "c"}
    assert both(SSH, OTHER | {"expires": days_ago(1)}, third) == [True]
    assert both(
        OTHER | {"expires": days_ago(-1)}, OTHER | {"digest": "x", "expires": days_ago(1)}, third
    ) == [True]


@pytest.mark.parametrize(
    ("takes", "marks", "level"),
    [
        (["password"], {}, 1),
        (["password"], {"is_empty": True}, 0),
        (["password", "sms"], {}, 2),
        (["password", "sms"], {"is_empty": True}, 1),
        (["password", "email"], {}, 1),
        (["password", "biometric"], {}, 1),
        (["password", "recovery-codes"], {}, 1),
        (["password", "passkey"], {}, 2),
        (["password", "passkey"], {"is_bound": True}, 3),
        (["password", "software-key"], {"is_bound": True}, 2),
        (["smartcard"], {"is_bound": True}, 3),
        (["hardware-key"], {"is_bound": True}, 1),
        (["hardware-key"], {"is_bound": True, "asks_pin": True}, 3),
        (["otp"], {"asks_pin": True}, 1),
        (["session"], {}, None),
        ([], {}, 0),
    ],
)
def test_levels(takes: list[str], marks: dict[str, bool], level: int | None) -> None:
    """Two different kinds of proof for level 2, one that cannot be relayed or copied for level 3."""
    plain = {"is_bound": False, "asks_pin": False, "is_empty": False}
    assert assurance_level(takes, **plain | marks) == level
