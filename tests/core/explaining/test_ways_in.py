"""The ways into an account: in words what `usable` says in one, and what bars each."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

import pytest
from hypothesis import given

from keymallet.core.explaining.ways_in import Facts, WayIn, ways_in
from keymallet.core.facts.declaration import ACCOUNT
from tests.core.reference import Evaluator, World, kleene_or
from tests.core.strategies import worlds
from tests.profiles import examples
from tests.support import AT, days_ago

NAMES = frozenset(ACCOUNT.names)
OPEN = {"enabled": True, "has-password": True, "locked": False}
KEY = {"kind": "ssh-key", "key": "SHA256:x", "algorithm": "ed25519", "state": "active"}


def said(
    account: dict[str, Any], key: dict[str, Any] | None = None, factor: dict[str, Any] | None = None
) -> dict[str, WayIn]:
    """The ways by what they are."""

    def rows(row: dict[str, Any] | None) -> list[Facts]:
        return [] if row is None else [Facts(row, {"expires", *row})]

    found = ways_in(Facts(account, NAMES), rows(key), rows(factor), AT, _moment)
    return {way.what: way for way in found}


def _moment(instant: datetime) -> str:
    return f"{instant:%Y-%m-%d}"


@examples(150)
@given(worlds())
def test_an_account_is_usable_exactly_if_a_way_is_open(world: World) -> None:
    """Kleene's `or` over the ways is the reference's `usable`, unknown facts included."""
    for place, row in enumerate(world.accounts):
        evaluator = Evaluator(world, "account", row)
        supply = world.supply[row["source"]]

        def rows(table: str, supply: Any = supply, place: int = place) -> list[Facts] | None:
            if table not in supply:
                return None
            mine = [each for each in world.children[table] if each["of"] == place]
            return [Facts(each, supply[table], each.get("unread") or ()) for each in mine]

        judged = row | {"locked": evaluator.derived_account_locked()}
        account = Facts(judged, supply["account"], row.get("unread") or ())
        found = ways_in(account, rows("key"), rows("factor"), AT, str)
        assert kleene_or([way.is_open for way in found]) is evaluator.derived_account_usable()
        for way in found:
            assert bool(way.barred) is (way.is_open is False)
            assert bool(way.missing) is (way.is_open is None)


@pytest.mark.parametrize(
    ("account", "why"),
    [
        ({"enabled": False}, "the account is switched off"),
        ({"ends": days_ago(1)}, "the account ended 2026-11-23"),
        ({"starts": AT + timedelta(days=1)}, "it starts only 2026-11-25"),
        ({"password-lapses": AT}, "barred since 2026-11-24: no new password was set in time"),
    ],
)
def test_what_bars_everything(account: dict[str, Any], why: str) -> None:
    """An end, a switch, a grace that ran out: neither password nor key gets in."""
    ways = said(OPEN | account, KEY)
    assert len(ways) == 2
    assert all(way.is_open is False and way.barred[0] == why for way in ways.values())


def test_a_lock_of_the_password_leaves_the_key() -> None:
    """Unless it is known to stop everything, or what it stops is not known."""
    locked = OPEN | {"locked": True, "lock-cause": "failed-attempts", "locked-until": AT + timedelta(days=1)}
    assert [way.is_open for way in said(locked, KEY).values()] == [False, False]
    ways = said(locked | {"lock-stops": "password"}, KEY)
    assert ways["ssh-key SHA256:x ed25519"].is_open is True
    assert ways["password"].barred == ("locked after failed sign-ins, until 2026-11-25",)
    by_hand = said(OPEN | {"locked": True, "lock-cause": "administrator"})
    assert by_hand["password"].barred == ("locked by an administrator, until somebody unlocks it",)


def test_console_and_network_are_told_apart() -> None:
    """Where the system says what it takes over the network."""
    ways = said(OPEN | {"remote-password": False, "remote-key": False}, KEY)
    assert ways["password at the console"].is_open is True
    assert ways["password over the network"].barred == ("the system takes no password there",)
    assert ways["ssh-key SHA256:x ed25519"].barred == ("the system takes no key from it",)


def test_until_when_and_by_what() -> None:
    """The nearest end of account, key and password; an expired password is asked for, not barred."""
    account = OPEN | {"ends": AT + timedelta(days=9), "password-expires": days_ago(1)}
    ways = said(account, KEY | {"expires": AT + timedelta(days=3)})
    key = ways["ssh-key SHA256:x ed25519"]
    assert (key.until, key.by) == (AT + timedelta(days=3), "the key ends")
    assert (ways["password"].until, ways["password"].by) == (AT + timedelta(days=9), "the account ends")
    assert "a new password has to be set at the next sign-in" in ways["password"].notes[0]


def test_a_key_that_does_not_work() -> None:
    """Revoked, over, not yet."""
    for row, why in (
        ({"state": "revoked"}, "the key is revoked"),
        ({"expires": AT}, "it ended 2026-11-24"),
        ({"starts": AT + timedelta(days=1)}, "it works only from 2026-11-25 on"),
    ):
        assert said(OPEN, KEY | row)["ssh-key SHA256:x ed25519"].barred == (why,)


def test_nothing_known_is_said_so() -> None:
    """What is missing is named; without any way there is none."""
    found = ways_in(
        Facts({"enabled": True, "has-password": False, "locked": False}, NAMES), None, [], AT, str
    )
    assert [(way.what, way.is_open, way.missing) for way in found] == [
        ("a key", None, ("key",)),
        ("password", False, ()),
    ]
    passkey = said({"enabled": True, "has-password": False}, factor={"kind": "passkey", "state": "active"})
    assert passkey["passkey"].missing == ("locked",)


@pytest.mark.parametrize(("interactive", "noted"), [(False, True), (True, False), (None, False)])
def test_a_shell_that_ends_a_session_is_noted(interactive: bool | None, noted: bool) -> None:
    """Only where it is known to be one."""
    way = said({**OPEN, "interactive": interactive})["password"]
    assert ("its shell ends a session at once" in way.notes) is noted
