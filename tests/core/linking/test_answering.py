"""Whoever answers for an account, by the roster; and accounts that wait for their first sign-in."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import polars as pl

from keymallet.core.facts.evidence import UNREAD
from keymallet.core.linking.answering import mark_answering
from keymallet.core.linking.awaited import mark_awaited
from keymallet.core.linking.linked import LinkedReadings
from keymallet.core.linking.password_days import count_password_days
from keymallet.core.linking.settings_as_meant import take_settings_as_meant
from tests.support import RULES, bare_evidence, days_ago, linked, passed

GONE = {"person": "2", "mail": "bo@x.example", "name": "Bo Berg", "status": "left", "leaves": days_ago(9)}
PEOPLE = [{"person": "1", "mail": "a@x.example", "name": "Ada", "status": "present", "leaves": None}, GONE]


def answering(owners: list[Any], people: list[dict[str, Any]]) -> list[tuple[Any, ...]]:
    """Where the owners of these accounts stand; two accounts of the second person, b and B2, come first."""
    rows = [{"name": "b", "person": "2", "owner": None}, {"name": "B2", "person": "2", "owner": None}]
    rows += [{"name": "twin", "person": person, "owner": None} for person in ("1", "2")]
    rows += [{"name": f"s{place}", "person": None, "owner": owner} for place, owner in enumerate(owners)]
    found = passed(mark_answering, linked(bare_evidence(rows, person=people)))
    assert "owner-status" in found.readings[0].supply["account"]
    return found.accounts.select("owner-status", "owner-leaves").rows()[4:]


def test_owners_may_be_named_in_any_way() -> None:
    """By number, mail, name or a login, in any case; a team, and what two people are called, is nobody."""
    named = ["2", "BO@x.example", " bo berg", "b2", "d/b", "ada", "head of pumps", "twin", None]
    left, here, nobody = ("left", days_ago(9)), ("present", None), (None, None)
    assert answering(named, PEOPLE) == [left] * 5 + [here] + [nobody] * 3


def test_an_owner_that_could_not_be_read_may_be_anybody() -> None:
    """Neither there nor gone: it is noted as unread."""
    given = linked(bare_evidence([{"name": "s", "owner": None, "unread": ["owner"]}], person=PEOPLE))
    found = passed(mark_answering, given)
    assert found.accounts[UNREAD].to_list() == [["owner", "owner-status", "owner-leaves"]]


def test_without_a_roster_nobody_is_missing() -> None:
    """Nothing is supplied then, and so nothing known."""
    found = passed(mark_answering, linked(bare_evidence([{"name": "s", "owner": "2"}])))
    assert "owner-status" not in found.readings[0].supply["account"]


def test_only_who_was_surely_never_signed_in_to_is_awaited() -> None:
    """Used, unread, without a day: none of these waits for anybody."""
    made = days_ago(5)
    rows = [
        {"created": made, "last_sign_in": None},
        {"created": made, "last_sign_in": days_ago(1)},
        {"created": None, "last_sign_in": None},
        {"created": made, "last_sign_in": None, "unread": ["last-sign-in"]},
    ]
    found = mark_awaited(linked(bare_evidence(rows)), RULES)
    assert found.accounts["awaited-since"].to_list() == [made, None, None, None]
    untold = mark_awaited(linked(bare_evidence([{"created": made}])), RULES)
    assert untold.accounts["awaited-since"].to_list() == [None]
    assert "awaited-since" in untold.readings[0].supply["account"]


def test_a_setting_that_names_nobody_is_for_everyone() -> None:
    """Empty or not told; what could not be read may be for anybody."""
    rows = [{"applies_to": []}, {"applies_to": ["ops"]}, {"applies_to": None, "unread": ["applies-to"]}]
    found = take_settings_as_meant(linked(bare_evidence([], setting=rows)), RULES)
    assert found.tables["setting"]["applies-to"].to_list() == [["everyone"], ["ops"], None]
    bare = take_settings_as_meant(linked(bare_evidence([], setting=[{"history": 1}])), RULES)
    assert bare.tables["setting"]["applies-to"].to_list() == [["everyone"]]
    assert "applies-to" in bare.readings[0].supply["setting"]


# passwords that were set together


def together(changed: list[Any]) -> list[int | None]:
    """How many others each was set with."""
    given = linked(bare_evidence([{"password_changed": instant} for instant in changed]))
    return counted(passed(count_password_days, given))


def counted(found: LinkedReadings) -> list[int | None]:
    return found.accounts["password-set-with"].to_list()


def test_passwords_are_set_together_in_one_hour() -> None:
    """The same day does not count where times are told; none is set with nobody."""
    start = days_ago(40).replace(hour=9, minute=0)
    near = [start + timedelta(minutes=place) for place in (0, 20, 59)]
    later = [start + timedelta(hours=1), start + timedelta(hours=3)]
    # Five within three hours are some usual ones for an hour of so small a source: in years they are none.
    assert together([*near, *later, start - timedelta(days=700), None]) == [2, 2, 2, 0, 0, 0, None]


def test_in_a_busy_hour_of_a_large_source_people_change_theirs() -> None:
    """Six an hour all year round: twenty in one are no batch, ninety are."""
    start = days_ago(0).replace(hour=0, minute=0)
    usual = [start - timedelta(hours=1 + place // 6, minutes=place % 6 + 1) for place in range(6 * 2_000)]
    busy = [start + timedelta(hours=9, minutes=place % 60) for place in range(20)]
    assert max(together([*usual, *busy])) == 0
    batch = [start + timedelta(hours=9, minutes=place % 60) for place in range(90)]
    assert together([*usual, *batch])[-1] == 90 - 1 - 59


def test_where_only_days_are_told_what_is_usual_does_not_count() -> None:
    """A thousand accounts change some three a day; thirty of one more day stand out, by what is beyond that."""
    midnight = days_ago(0).replace(hour=0, minute=0)
    usual = [midnight - timedelta(days=1 + place % 300) for place in range(900)]
    batch = [midnight - timedelta(days=500)] * 30
    found = pl.Series(together([*usual, *batch]))
    assert found[:900].max() == 0
    # 900 others within 500 days: one a day, of which three times as many are usual on any.
    assert found[900:].to_list() == [24] * 30
    assert together([midnight] * 20) == [19] * 20, "one day alone has nothing usual"
