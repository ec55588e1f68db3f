"""The report of elevation: the state of each right, and hours that add up."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import polars as pl

from keymallet.core.base.intervals import START, STOP
from keymallet.core.facts.evidence import INSTANT
from keymallet.core.topics.elevation import faults_of, hours_a_week
from keymallet.core.topics.report import STATE
from tests.core.topics.support import headline, report_of, sentences, worded
from tests.support import AT, days_ago, evidence

PERSON = {"kind": "person", "enabled": True, "unit": "Offices"}


def right(role: str, mode: str | None = "on-request", **more: Any) -> dict[str, Any]:
    return {
        "of": 0,
        "role": role,
        "privileged": True,
        "mode": mode,
        "via": "group g",
        "starts": None,
        "ends": None,
        **more,
    }


def opened(role: str, hours: tuple[float, float], **more: Any) -> dict[str, Any]:
    low, high = (AT + timedelta(hours=each) for each in hours)
    return {"of": 0, "role": role, "starts": low, "ends": high, "closed": None, "outcome": "opened", **more}


def test_the_state_of_each_right_is_said_plainly() -> None:
    """Standing, may ask, open until when; over or not begun; not known."""
    rights = [
        right("stands", "standing"), right("asks"), right("open"), right("over", ends=days_ago(1)),
        right("begins", starts=days_ago(-1)), right("unknown", None), right("small", privileged=False),
    ]  # fmt: skip
    openings = [
        opened("open", (-1, 4)), opened("asks", (-9, -1)), opened("asks", (1, 2)),
        opened("asks", (-1, 2), closed=AT - timedelta(minutes=1)), opened("asks", (-1, 2), outcome="waiting"),
    ]  # fmt: skip
    report = report_of("elevation", evidence([PERSON], grant=rights, elevation=openings))
    rows = report.rows
    states = dict(rows.select("role", STATE).iter_rows())
    assert states == {
        "stands": "standing", "asks": "on request", "open": "elevated now", "over": "ended", "begins": "ended",
        "unknown": "unproven",
    }  # fmt: skip
    assert dict(worded(report).select("role", "held").iter_rows())["open"] == "elevated until 14:00"
    assert rows[STATE].to_list() == ["standing", "elevated now", "unproven", "on request", "ended", "ended"]
    assert "1 of these elevated now, 1 not known (data missing)." in sentences(report)[0]
    assert headline(report) == "1 of 4 privileged rights are standing rights, 1 not known (data missing)"


def test_what_was_not_used_lately() -> None:
    """By the book's own limit, else 90 days; a right that stands is not asked."""
    rights = [right("old", last_opened=days_ago(91)), right("new", last_opened=days_ago(89)), right("never"),
              right("stands", "standing")]  # fmt: skip
    found = evidence([PERSON], grant=rights, elevation=[])
    unused = report_of("elevation", found).rows.filter("unused")["role"].to_list()
    assert sorted(unused) == ["never", "old"]
    strict = report_of("elevation", found, '[limits]\nright-unused = "30d"').rows.filter("unused")["role"]
    assert sorted(strict) == ["never", "new", "old"]


def test_openings_that_begin_at_once_stand_as_their_source_has_them() -> None:
    """The newest first; and the same data reads the same each time."""
    openings = [opened("r", (-4 - number % 2, -1), elevation=f"{number:02}") for number in range(40)]
    report = report_of("elevation", evidence([PERSON], grant=[right("r")], elevation=openings))
    (section,) = (section for section in report.sections if section.name == "openings")
    assert section.rows["elevation"].to_list() == [
        f"{number:02}" for number in (*range(0, 40, 2), *range(1, 40, 2))
    ]


def test_without_openings_none_are_claimed() -> None:
    """Who may ask stands there; how often it was opened is not said to be never."""
    report = report_of("elevation", evidence([PERSON], grant=[right("asks")]))
    assert "No source reports elevations" in sentences(report)[1] and not report.sections


def test_hours_a_week_by_hand() -> None:
    """Two accounts of one person are one; overlaps count once; what is longer ago than four weeks does not."""
    rows = [
        ("1", "d/alma", -10, -6), ("1", "d/adm-alma", -8, -4), ("1", "d/alma", -4.2, -3), ("2", "d/bruno", -24 * 9, -24 * 9 + 4),
        ("1", "d/alma", -24 * 28 - 2, -24 * 28 + 2), ("2", "d/bruno", -1, 5),
        ("3", "d/clara", -24 * 7 - 3, -24 * 7 + 1),
    ]  # fmt: skip
    frame = pl.DataFrame(
        [(who, account, AT + timedelta(hours=low), AT + timedelta(hours=high)) for who, account, low, high in rows],
        schema={"who": pl.String(), "account": pl.String(), START: INSTANT, STOP: INSTANT}, orient="row",
    )  # fmt: skip
    found = {row["who"]: row for row in hours_a_week(frame, AT).iter_rows(named=True)}
    assert found["1"]["in all"] == timedelta(hours=7 + 2) and found["1"]["a week"] == timedelta(hours=9) / 4
    assert found["1"]["last 7 days"] == found["1"]["longest stretch"] == timedelta(hours=7)
    assert found["1"]["account"] == ["d/alma", "d/adm-alma"] and found["1"]["openings"] == 4
    assert found["3"]["last 7 days"] == timedelta(hours=1), "what began before counts from then on"
    # What is still open counts up to now alone.
    assert found["2"]["in all"] == timedelta(hours=5) and found["2"]["last 7 days"] == timedelta(hours=1)


def test_faults_are_of_what_was_opened() -> None:
    """Each by its name; a request that was refused has none."""
    whole = {"opened": True, "open_now": False, "own_approval": False, "no_approval": False, "hollow": False,
             "copied": False, "no_proof": False, "no_right": False, "overrun": False,
             "lasted": timedelta(hours=8), "stretch": timedelta(hours=12),
             "opened_for": timedelta(hours=8), "opened_stretch": timedelta(hours=12)}  # fmt: skip
    changes: list[dict[str, Any]] = [
        {}, {"own_approval": True}, {"lasted": timedelta(hours=8, microseconds=1)}, {"stretch": timedelta(hours=13)},
        {"overrun": True, "hollow": True}, {"no_proof": True, "opened": False},
    ]  # fmt: skip
    found = faults_of(pl.DataFrame([{**whole, **change} for change in changes]))["problems"].to_list()
    assert found == [[], ["approved by oneself"], ["open too long"], ["adds up to more"],
                     ["closed late", "no reason"], []]  # fmt: skip
