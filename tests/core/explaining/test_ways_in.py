"""The ways into an account: in words what `usable` says in one, and what bars each."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

import pytest
from hypothesis import given

from keymallet.core.evaluating.context import EvaluationContext
from keymallet.core.explaining.ways_in import Facts, WayIn, ways_in
from keymallet.core.facts.declaration import ACCOUNT, FACTOR, KEY, WAY_IN
from keymallet.core.facts.evidence import UNREAD, Evidence
from keymallet.core.facts.model import Table
from keymallet.views.account import known_facts
from tests.core.reference import Evaluator, World, kleene_or
from tests.core.strategies import evidence_of, worlds
from tests.profiles import examples
from tests.support import AT, CLOCK, days_ago, evidence

OPEN = {"enabled": True, "has-password": True, "locked": False}
A_KEY = {"kind": "ssh-key", "key": "SHA256:x", "algorithm": "ed25519", "state": "active"}


def said(
    account: dict[str, Any], key: dict[str, Any] | None = None, factor: dict[str, Any] | None = None
) -> dict[str, WayIn]:
    """The ways by what they are."""

    rows = {
        name: [{"of": 0, **({"expires": None} if name == "key" else {}), **row}] if row else []
        for name, row in (("key", key), ("factor", factor))
    }
    account = dict.fromkeys(("ends", "starts"), None) | account
    return {way.what: way for way in told(evidence([account], **rows), 0)}


def told(found: Evidence, place: int) -> list[WayIn]:
    """The ways into one account, as `show` tells them."""
    context = EvaluationContext(found.only([place]), AT, CLOCK)
    (row,) = known_facts(context, ACCOUNT).iter_rows(named=True)
    supply = found.supply[row["source"]]

    def rows(table: Table) -> list[Facts]:
        known = known_facts(context, table).iter_rows(named=True)
        return [Facts(each, supply.get(table.name, ()), each.get(UNREAD) or ()) for each in known]

    account = Facts(row, supply["account"], row.get(UNREAD) or ())
    return ways_in(account, rows(WAY_IN), rows(KEY), rows(FACTOR), AT, _moment)


def _moment(instant: datetime) -> str:
    return f"{instant:%Y-%m-%d}"


@examples(150)
@given(worlds())
def test_an_account_is_usable_exactly_if_a_way_is_open(world: World) -> None:
    """Kleene's `or` over the ways is the reference's `usable`, unknown facts included."""
    seen = evidence_of(world)
    for place, row in enumerate(world.accounts):
        evaluator = Evaluator(world, "account", row)
        found = told(seen, place)
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
    ways = said(OPEN | account, A_KEY)
    assert len(ways) == 2
    assert all(way.is_open is False and way.barred[0] == why for way in ways.values())


def test_a_lock_of_the_password_leaves_the_key() -> None:
    """Unless it is known to stop everything, or what it stops is not known."""
    locked = OPEN | {"locked": True, "lock-cause": "failed-attempts", "locked-until": AT + timedelta(days=1)}
    assert [way.is_open for way in said(locked, A_KEY).values()] == [False, False]
    ways = said(locked | {"lock-stops": "password"}, A_KEY)
    assert ways["SSH key SHA256:x ed25519"].is_open is True
    assert ways["password"].barred == ("locked after failed sign-ins, until 2026-11-25",)
    by_hand = said(OPEN | {"locked": True, "lock-cause": "administrator"})
    assert by_hand["password"].barred == ("locked by an administrator, until somebody unlocks it",)


def test_console_and_network_are_told_apart() -> None:
    """Where the system says what it takes over the network."""
    ways = said(OPEN | {"remote-password": False, "remote-key": False}, A_KEY)
    assert ways["password at the console"].is_open is True
    assert ways["password over the network"].barred == ("the system takes no password there",)
    assert ways["SSH key SHA256:x ed25519"].barred == ("the system takes no key from it",)


def test_until_when_and_by_what() -> None:
    """The nearest end of account, key and password; an expired password is asked for, not barred."""
    account = OPEN | {"ends": AT + timedelta(days=9), "password-expires": days_ago(1)}
    ways = said(account, A_KEY | {"expires": AT + timedelta(days=3)})
    key = ways["SSH key SHA256:x ed25519"]
    assert (key.until, key.by) == (AT + timedelta(days=3), "the key ends")
    assert (ways["password"].until, ways["password"].by) == (AT + timedelta(days=9), "the account ends")
    assert any("a new password has to be set at the next sign-in" in each for each in ways["password"].notes)


def test_a_key_that_does_not_work() -> None:
    """Revoked, over, not yet."""
    for row, why in (
        ({"state": "revoked"}, "the key is revoked"),
        ({"expires": AT}, "it ended 2026-11-24"),
        ({"starts": AT + timedelta(days=1)}, "it works only from 2026-11-25 on"),
    ):
        assert said(OPEN, A_KEY | row)["SSH key SHA256:x ed25519"].barred == (why,)


def test_nothing_known_is_said_so() -> None:
    """What is missing is named; without any way there is none."""
    account = {"enabled": True, "has-password": False, "locked": False, "ends": None}
    found = told(evidence([account], factor=[]), 0)
    assert [(way.what, way.is_open, way.missing) for way in found] == [("a key", None, ("key",))]
    passkey = said({"enabled": True, "has-password": False}, factor={"kind": "passkey", "state": "active"})
    assert passkey["passkey"].missing == ("locked",)


@pytest.mark.parametrize(("interactive", "noted"), [(False, True), (True, False), (None, False)])
def test_a_shell_that_ends_a_session_is_noted(interactive: bool | None, noted: bool) -> None:
    """Only where it is known to be one."""
    way = said({**OPEN, "interactive": interactive})["password"]
    assert ("its shell ends a session at once" in way.notes) is noted
