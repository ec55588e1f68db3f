"""Openings side by side: what they add up to, who approved them, copied words, rights that had ended."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import timedelta
from typing import Any

import polars as pl

from keymallet.core.facts.declaration import ELEVATION
from keymallet.core.linking.elevation_spans import mark_elevation_spans
from tests.support import AT, evidence, linked, passed

ACCOUNTS = [
    {"name": "alma", "person": "1", "mail": "alma@gvr.example"},
    {"name": "adm-alma", "person": "1", "mail": None},
    {"name": "bruno", "person": "2", "mail": "bruno@gvr.example"},
]


def opening(of: int | None, start: float | None, hours: float, **more: Any) -> dict[str, Any]:
    """An opening that starts so many hours after AT, and was closed on time."""
    starts = None if start is None else AT + timedelta(hours=start)
    ends = None if starts is None else starts + timedelta(hours=hours)
    return {
        "of": of, "role": "mail", "starts": starts, "ends": ends, "closed": ends, "outcome": "opened",
        "approved_by": "bruno", "reason": "Replace the relay at the station", **more,
    }  # fmt: skip


def marked(openings: list[dict[str, Any]], **tables: Any) -> Mapping[str, pl.DataFrame]:
    return passed(mark_elevation_spans, linked(evidence(ACCOUNTS, elevation=openings, **tables))).tables


def column(openings: list[dict[str, Any]], name: str, **tables: Any) -> list[Any]:
    return marked(openings, **tables)[ELEVATION.name][name].to_list()


def h(number: float) -> timedelta:
    return timedelta(hours=number)


def test_stretches_add_up_across_roles_and_short_gaps() -> None:
    """A quarter of an hour between two is no break; another account's are another's."""
    openings = [
        opening(0, 0, 4), opening(0, 4.25, 4, role="users"), opening(0, 9, 1), opening(1, 8.25, 4),
        opening(0, 2, 1), opening(0, 30, 2, outcome="refused"),
    ]  # fmt: skip
    assert column(openings, "stretch") == [h(8.25), h(8.25), h(1), h(4), h(8.25), None]
    assert column(openings, "lasted") == [h(4), h(4), h(1), h(4), h(1), None]
    # A week back from the end of each; what overlaps counts once.
    assert column(openings, "opened-in-week") == [h(4), h(8), h(9), h(4), h(3), None]


def test_what_is_still_open_counts_to_its_planned_end() -> None:
    """And what has no end at all is not told."""
    assert column([opening(0, 0, 5, closed=None)], "lasted") == [h(5)]
    assert column([opening(0, 0, 5, closed=None, ends=None)], "lasted") == [None]
    assert column([opening(0, None, 5)], "stretch") == [None]


def test_approved_by_oneself_under_any_name() -> None:
    """The account, another of the same person, by name, address, number or source/name; in any letters."""
    names = ["bruno", "alma", "adm-alma", "ALMA@gvr.example", "1", "d/alma", "nobody known", None, "2"]
    by_alma = [opening(1, 0, 1, approved_by=name) for name in names]
    assert column(by_alma, "approves-itself") == [False, True, True, True, True, True, False, None, False]
    assert column([opening(None, 0, 1)], "approves-itself") == [False]


def test_reasons() -> None:
    """The same words, whatever their dots and capitals; empty ones are no copies of one another."""
    told = [
        "Replace the relay at Enz",
        "replace  the relay at Enz!",
        "Replace the points at Enz",
        "",
        None,
        "",
    ]
    openings = [opening(0, number, 1, reason=reason) for number, reason in enumerate(told)]
    assert column(openings, "same-reason")[:4] == [1, 1, 0, 0]
    assert column(openings, "hollow-reason") == [False, False, False, True, True, True]


def test_the_right_to_ask_at_that_time() -> None:
    """Held, over, not begun; of a role that no right is told of nothing is claimed."""
    rights = [
        {"of": 0, "role": "mail", "mode": "on-request", "starts": None, "ends": AT + h(10)},
        {"of": 0, "role": "users", "mode": "on-request", "starts": AT + h(10), "ends": None},
        {"of": 1, "role": "mail", "mode": "standing", "starts": None, "ends": None},
    ]
    openings = [
        opening(0, 0, 1), opening(0, 10, 1), opening(0, 0, 1, role="users"), opening(0, 10, 1, role="users"),
        opening(0, 0, 1, role="other"), opening(1, 0, 1),
    ]  # fmt: skip
    frames = marked(openings, grant=rights)
    assert frames["elevation"]["entitled"].to_list() == [True, False, False, True, None, None]
    assert frames["grant"]["last-opened"].to_list() == [AT + h(10), AT + h(10), AT]


def test_of_two_rights_to_one_role_either_will_do() -> None:
    """One that had ended and one that begins later: between them there is none, within either there is."""
    rights = [
        {"of": 0, "role": "mail", "mode": "on-request", "starts": None, "ends": AT + h(2)},
        {"of": 0, "role": "mail", "mode": "on-request", "starts": AT + h(20), "ends": None},
    ]
    for order in (rights, rights[::-1]):
        openings = [opening(0, 0, 1), opening(0, 10, 1), opening(0, 21, 1)]
        assert column(openings, "entitled", grant=order) == [True, False, True]


def test_sign_ins_within_and_outside() -> None:
    """From the start on, up to but not including the end; of another account never."""
    sign_ins = [
        {"of": of, "at": AT + h(at), "outcome": "success"} for of, at in ((0, 0), (0, 0.99), (0, 1), (1, 0.5))
    ]
    frames = marked([opening(0, 0, 1)], **{"sign_in": sign_ins})
    assert frames["sign-in"]["in-opening"].to_list() == [True, True, False, False]


def test_a_source_without_reasons_or_openings_claims_nothing() -> None:
    """Neither that a reason is hollow, nor that nothing was open."""
    accounts = [{"name": "a", "source": "d"}, {"name": "b", "source": "e"}]
    supply = {
        "d": {"account": ["name"], "elevation": ["starts", "ends", "closed", "outcome"], "sign-in": ["at"]},
        "e": {"account": ["name"], "sign-in": ["at"]},
    }
    openings = [{"of": 0, "starts": AT, "ends": AT + h(1), "outcome": "opened"}]
    found = evidence(accounts, supply, elevation=openings, sign_in=[{"of": 0, "at": AT}, {"of": 1, "at": AT}])
    marked_ones = passed(mark_elevation_spans, linked(found))
    assert marked_ones.tables["elevation"]["hollow-reason"].to_list() == [None]
    supplied = marked_ones.readings[0].supply["elevation"]
    assert "hollow-reason" not in supplied and "stretch" in supplied
    assert marked_ones.tables["sign-in"]["in-opening"].to_list() == [True, None]
