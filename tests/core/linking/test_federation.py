"""Accounts that another system proves: by which account, with what, and what bars them there."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta
from typing import Any

import pytest

from keymallet.core.evaluating.context import EvaluationContext
from keymallet.core.facts.declaration import ACCOUNT, WAY_IN
from keymallet.core.facts.evidence import ACCOUNT_ROW
from keymallet.core.linking.declared import Federation
from keymallet.core.linking.federation import find_provers
from keymallet.core.linking.gates import mark_gates
from keymallet.core.linking.ways_in import make_ways_in
from keymallet.views.account import known_facts
from tests.support import AT, CLOCK, RULES, bare_evidence, days_ago, linked, passed

RULED = replace(RULES, federations=(Federation("cloud", "d"),))
CLOUD = {
    "source": "cloud", "name": "alma", "enabled": True, "has-password": False, "locked": False, "ends": None,
}  # fmt: skip
PROVER = {
    "source": "d", "name": "alma", "enabled": True, "has-password": True, "locked": False, "ends": None,
    "second-factor-enforced": True, "starts": None, "locked-until": None, "lock-stops": None,
}  # fmt: skip
OTP = {"of": 1, "kind": "otp", "state": "active"}


def proven(
    prover: dict[str, Any] | None = None,
    cloud: dict[str, Any] | None = None,
    factors: list[dict[str, Any]] | None = None,
    keys: list[dict[str, Any]] | None = None,
    more: tuple[dict[str, Any], ...] = (),
) -> tuple[dict[str, Any], list[tuple[Any, ...]]]:
    """The cloud's account as it is judged, and its ways in: over what, what is taken, level, whether open."""
    accounts = [CLOUD | (cloud or {}), PROVER | (prover or {}), *more]
    rows = {"factor": [OTP] if factors is None else factors, "key": keys or []}
    supply = {
        "cloud": {"account": [*CLOUD], "factor": ["kind", "state"], "key": ["kind", "state", "expires"]},
        "d": {"account": [*PROVER], "factor": ["kind", "state"], "key": ["kind", "state", "expires"]},
    }
    found = bare_evidence(accounts, supply, **rows)
    seen = linked(found)
    for step in (find_provers, mark_gates, make_ways_in):
        seen = passed(step, seen, RULED)
    told = {reading.source: reading.supply for reading in seen.readings}
    context = EvaluationContext(replace(found, tables=dict(seen.tables), supply=told), AT, CLOCK)
    account = known_facts(context, ACCOUNT).row(0, named=True)
    ways = known_facts(context, WAY_IN).with_columns(row=seen.tables["way-in"][ACCOUNT_ROW])
    return account, [
        (way["over"], "+".join(way["takes"] or ()), way["assurance"], way["open"])
        for way in ways.iter_rows(named=True)
        if way["row"] == 0
    ]


def test_what_proves_the_one_proves_the_other() -> None:
    """Its factors, what it is asked for, and the level that its ways reach."""
    account, ways = proven()
    assert (account["proven-by"], account["proven-with"]) == ("d/alma", ["otp"])
    assert account["federated"] and account["second-factor-required"] and account["second-factor-registered"]
    assert account["phishing-resistant-registered"] is False
    assert ways == [("federation", "password+otp", 2, True)] and account["usable"] is True
    account, ways = proven(factors=[OTP | {"kind": "passkey"}])
    assert account["phishing-resistant-registered"] is True
    assert ways == [("federation", "password+passkey", 2, True), ("federation", "passkey", 2, True)]


@pytest.mark.parametrize(
    ("prover", "is_open"),
    [
        ({"enabled": False}, False),
        ({"enabled": None}, None),
        ({"ends": days_ago(1)}, False),
        ({"ends": days_ago(-1)}, True),
        ({"starts": days_ago(-1)}, False),
        ({"locked": True}, False),
        ({"locked": True, "locked-until": AT - timedelta(seconds=1)}, True),
        ({"locked": True, "locked-until": AT + timedelta(seconds=1)}, False),
        ({"locked": None}, None),
        ({"has-password": False}, False),
        ({"has-password": None}, None),
    ],
)
def test_what_bars_the_one_bars_the_other(prover: dict[str, Any], is_open: bool | None) -> None:
    """Whoever does not get in there does not get in here."""
    account, ways = proven(prover)
    assert account["usable"] is is_open
    assert [way[3] for way in ways] == ([] if prover == {"has-password": False} else [is_open])


def test_a_lock_of_the_password_leaves_the_passkey() -> None:
    """As it does for the account that proves it."""
    _, ways = proven({"locked": True, "lock-stops": "password"}, factors=[OTP | {"kind": "passkey"}])
    assert [(takes, is_open) for _, takes, _, is_open in ways] == [
        ("password+passkey", False),
        ("passkey", True),
    ]


def test_its_own_end_and_switch_count_as_well() -> None:
    """An account that is switched off is closed, whoever could prove it."""
    assert proven(cloud={"enabled": False})[0]["usable"] is False
    assert proven(cloud={"ends": days_ago(1)})[0]["usable"] is False


def test_a_password_of_its_own_needs_nobody() -> None:
    """It is no federated account then: what the directory asks for is not asked there."""
    account, ways = proven(cloud={"has-password": True})
    assert account["federated"] is False and account["proven-by"] is None
    assert account["second-factor-registered"] is False and account["second-factor-required"] is None
    assert ways == [("network", "", None, True)]


def test_nobody_and_several() -> None:
    """Proven by none: nobody gets in. By one of several: what it rests on is not known."""
    account, ways = proven({"name": "somebody-else"})
    assert (account["federated"], account["proven-by"], account["usable"], ways) == (True, None, False, [])
    assert account["second-factor-registered"] is False
    account, ways = proven(more=(PROVER | {"name": "alma"},))
    assert (account["proven-by"], account["usable"]) == (None, None)
    assert account["second-factor-registered"] is None and [way[3] for way in ways] == [None]


def test_factors_that_are_not_known_there() -> None:
    """One whose kind is not known may be any; none is known not to be there."""
    assert proven(factors=[OTP | {"kind": None}])[0]["second-factor-registered"] is None
    assert proven(factors=[OTP | {"state": "suspended"}])[0]["second-factor-registered"] is False
    assert proven(factors=[])[0]["second-factor-registered"] is False


# chains

CHAINED = replace(RULES, federations=(Federation("cloud", "d"), Federation("app", "cloud")))
APP = {**CLOUD, "source": "app", "name": "alma"}


def chained(
    cloud: dict[str, Any] | None = None, prover: dict[str, Any] | None = None, federations: Any = CHAINED
) -> tuple[dict[str, Any], list[tuple[Any, ...]]]:
    """The app's account, proven by the cloud's, which the directory proves; and the ways into it."""
    accounts = [APP, CLOUD | (cloud or {}), PROVER | (prover or {})]
    tables = {"factor": ["kind", "state"], "key": ["kind", "state", "expires"]}
    supply = {"app": {"account": [*CLOUD], **tables}, "cloud": {"account": [*CLOUD], **tables}}
    supply["d"] = {"account": [*PROVER], **tables}
    factors = [OTP | {"of": 2}, {"of": 1, "kind": "passkey", "state": "active"}]
    found = bare_evidence(accounts, supply, factor=factors, key=[])
    seen = linked(found)
    for step in (find_provers, mark_gates, make_ways_in):
        seen = passed(step, seen, federations)
    told = {reading.source: reading.supply for reading in seen.readings}
    context = EvaluationContext(replace(found, tables=dict(seen.tables), supply=told), AT, CLOCK)
    ways = known_facts(context, WAY_IN).with_columns(row=seen.tables["way-in"][ACCOUNT_ROW])
    return known_facts(context, ACCOUNT).row(0, named=True), [
        (way["over"], "+".join(way["takes"] or ()), way["open"], way["proven-by"])
        for way in ways.iter_rows(named=True)
        if way["row"] == 0
    ]


def test_an_account_may_be_proven_by_one_that_is_proven_itself() -> None:
    """By the factors of both, by the ways of both, and asked for what either is asked for."""
    account, ways = chained()
    assert (account["proven-by"], account["proven-with"]) == ("cloud/alma", ["otp", "passkey"])
    assert account["second-factor-required"] is True and account["usable"] is True
    assert sorted(ways) == [
        ("federation", "passkey", True, "cloud/alma"),
        ("federation", "password+otp", True, "cloud/alma"),
    ]


@pytest.mark.parametrize("barred", [{"enabled": False}, {"ends": days_ago(1)}, {"locked": True}])
def test_what_bars_any_of_the_chain_bars_the_last(barred: dict[str, Any]) -> None:
    """The directory's switch closes what the directory proves; the cloud's closes all."""
    account, ways = chained(prover=barred)
    assert [way[1] for way in ways if way[2]] == ["passkey"]
    account, ways = chained(cloud=barred)
    assert account["usable"] is False and len(ways) == 2


def test_accounts_that_prove_each_other_are_proven_by_nobody_known() -> None:
    """Round in a circle: whether anybody gets in is not known."""
    around = replace(RULES, federations=(Federation("cloud", "app"), Federation("app", "cloud")))
    account, ways = chained(federations=around)
    assert (account["proven-by"], account["federated"], account["usable"]) == (None, True, None)
    assert [way[2] for way in ways] == [None]
