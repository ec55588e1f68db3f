"""The hours of the week in which an account may be used, and sign-ins outside them."""

from __future__ import annotations

from datetime import datetime

import pytest

from keymallet.core.linking.allowed_hours import mark_hours, read_hours
from tests.support import RULES, bare_evidence, linked

DAY = 1440


@pytest.mark.parametrize(
    ("written", "stretches"),
    [
        (["mon 07:00-19:00"], [(420, 1140)]),
        (["tue-wed 8:00-12:00"], [(DAY + 480, DAY + 720), (2 * DAY + 480, 2 * DAY + 720)]),
        (["Sunday 22:00-06:00"], [(6 * DAY + 1320, 7 * DAY), (0, 360)]),
        (["sat-mon 0:00-24:00"], [(5 * DAY, 6 * DAY), (6 * DAY, 7 * DAY), (0, DAY)]),
        (["00:00-24:00"], [(day * DAY, day * DAY + DAY) for day in range(7)]),
        (["mon 07:00-19:00", "tue 07:00-19:00"], [(420, 1140), (DAY + 420, DAY + 1140)]),
        ([], []),
        (["monday to friday"], None),
        (["mon 25:00-26:00"], None),
        (["mon 07:00-19:60"], None),
        (["mox 07:00-19:00"], None),
        (["mon-fry 07:00-19:00"], None),
        (["mon 07:00-19:00", "?"], None),
    ],
)
def test_hours_as_they_are_written(written: list[str], stretches: list[tuple[int, int]] | None) -> None:
    """Half-open, over midnight and over the end of the week; what cannot be read is not guessed."""
    assert read_hours(written) == stretches


def outside(hours: list[str] | None, at: str) -> bool | None:
    """Whether a sign-in of an account with these hours lies outside them, by a clock in Zurich."""
    event = {"of": 0, "at": datetime.fromisoformat(at), "outcome": "success"}
    found = bare_evidence([{"allowed_hours": hours}], sign_in=[event])
    told: bool | None = mark_hours(linked(found), RULES).tables["sign-in"]["outside-hours"][0]
    return told


@pytest.mark.parametrize(
    ("at", "is_outside"),
    [
        ("2026-11-23T06:00Z", False),  # 07:00 on a Monday
        ("2026-11-23T05:59:59Z", True),
        ("2026-11-23T17:59:59Z", False),
        ("2026-11-23T18:00Z", True),
        ("2026-11-22T11:00Z", True),  # a Sunday
        ("2026-07-20T05:00Z", False),  # 07:00 in summer
        ("2026-07-20T04:59Z", True),
    ],
)
def test_by_the_estates_clock(at: str, is_outside: bool) -> None:
    """In summer and in winter; the end of a stretch no longer belongs to it."""
    assert outside(["mon-fri 07:00-19:00"], at) is is_outside


def test_without_hours_nothing_is_outside_them() -> None:
    """None told of an account, or none at all; what cannot be read leaves it open."""
    assert outside(None, "2026-11-22T11:00Z") is False
    assert outside([], "2026-11-22T11:00Z") is False
    assert outside(["office hours"], "2026-11-22T11:00Z") is None
