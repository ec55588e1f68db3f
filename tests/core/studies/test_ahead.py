"""What lies ahead: when each turns to breach, counted by weeks; and a plan in which nobody is late."""

from __future__ import annotations

from datetime import date, datetime, timedelta

import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from keymallet.core.studies.ahead import coming, described, monday_of, spread, weeks
from tests.support import AT, CLOCK, days_ago, evidence, judged, rule

TODAY = date(2026, 11, 24)


def test_what_turns_to_breach_in_order_of_time() -> None:
    """Of accounts and of keys; not what is in breach already, nor what comes after the stretch."""
    accounts = [{"created": days_ago(days), "enabled": True} for days in (89, 95, 10, 80)]
    keys = [{"of": 0, "key": "k", "issued": days_ago(87)}]
    rules = rule("age(created) <= 90d") + rule("age(issued) <= 90d", each="key").replace("rule.r", "rule.k")
    judgement = judged(evidence(accounts, key=keys), rules)
    found = described(judgement, coming(judgement, AT + timedelta(days=30)))
    told = [(row["rule"], row["account"], row["subject"]) for row in found.iter_rows(named=True)]
    assert told == [("r", "d/a0", None), ("k", "d/a0", "k"), ("r", "d/a3", None)]
    assert found["at"][0] == days_ago(89) + timedelta(days=90, microseconds=1)


def test_every_week_is_counted_also_an_empty_one() -> None:
    """Weeks begin on Mondays of the estate's clock."""
    monday_night = datetime.fromisoformat("2026-12-06T23:30Z")  # Monday in the estate's clock
    events = pl.DataFrame(
        {"at": [monday_night], "rule": ["r"]}, schema={"at": pl.Datetime("us", "UTC"), "rule": pl.String}
    )
    found = weeks(events, CLOCK, AT, AT + timedelta(days=20))
    assert [(week.monday, week.turning) for week in found] == [
        (date(2026, 11, 23), 0),
        (date(2026, 11, 30), 0),
        (date(2026, 12, 7), 1),
        (date(2026, 12, 14), 0),
    ]


def test_rules_that_come_as_often_stand_by_name() -> None:
    """The same data says the same each time it is asked."""
    names = [f"r{number:02}" for number in range(40)]
    instants = pl.Series([AT] * len(names), dtype=pl.Datetime("us", "UTC"))
    events = pl.DataFrame({"at": instants, "rule": names[::-1]})
    (week,) = weeks(events, CLOCK, AT, AT)
    assert [name for name, _ in week.by_rule.most_common()] == names


def planned(due: list[date], capacity: int, severities: list[str] | None = None) -> list[date | None]:
    at = [datetime(day.year, day.month, day.day, 12, tzinfo=CLOCK) for day in due]
    events = pl.DataFrame(
        {"at": at, "severity": severities or ["high"] * len(due)},
        schema={"at": pl.Datetime("us", "UTC"), "severity": pl.String},
    )
    return spread(events, CLOCK, AT, capacity)["planned"].to_list()


@given(
    st.lists(
        st.tuples(st.integers(0, 60), st.sampled_from(["critical", "high", "medium", "low"])), max_size=80
    ),
    st.integers(1, 12),
)
def test_a_plan_is_never_late_and_never_over_capacity(drawn: list[tuple[int, str]], capacity: int) -> None:
    """On a working day, from today on, before it turns to breach; and nothing is left out without need."""
    due = [TODAY + timedelta(days=days) for days, _ in drawn]
    plan = planned(due, capacity, [severity for _, severity in drawn])
    in_week: dict[date, int] = {}
    for day, until in zip(plan, due, strict=True):
        if day is not None:
            assert TODAY <= day < until and day.weekday() < 5
            in_week[monday_of(day)] = in_week.get(monday_of(day), 0) + 1
    assert all(number <= capacity for number in in_week.values())
    # By every week's end as much is done as could be: all that is due, or the whole capacity so far.
    assert len(plan) - plan.count(None) == most_possible(due, capacity)


def most_possible(due: list[date], capacity: int) -> int:
    """Earliest deadline first, one after another, skipping what would be late."""
    deadlines = []
    for day in due:
        last = day - timedelta(days=1)
        while last.weekday() > 4:
            last -= timedelta(days=1)
        deadlines.append(last)
    free: dict[date, int] = {}
    done = 0
    for deadline in sorted(deadlines):
        week = monday_of(TODAY)
        while week <= monday_of(deadline) and deadline >= TODAY:
            room = free.setdefault(week, -(-capacity * 4 // 5) if week == monday_of(TODAY) else capacity)
            if room:
                free[week] -= 1
                done += 1
                break
            week += timedelta(weeks=1)
    return done


def test_what_is_left_out_is_the_least_grave() -> None:
    """Five are due in the same week, two can be done."""
    due = [date(2026, 11, 27)] * 5
    plan = planned(due, 2, ["low", "critical", "medium", "high", "low"])
    assert [day is not None for day in plan] == [False, True, False, True, False]


@pytest.mark.parametrize(("begins", "first"), [(28, 30), (29, 30), (30, 30)])
def test_a_plan_begins_on_a_working_day(begins: int, first: int) -> None:
    """On a Monday at once, on a Saturday or a Sunday on the Monday after."""
    turns = pl.Series("at", [datetime(2026, 12, 1, 12, tzinfo=CLOCK)], dtype=pl.Datetime("us", "UTC"))
    events = pl.DataFrame([turns, pl.Series("severity", ["high"])])
    start = datetime(2026, 11, begins, 12, tzinfo=CLOCK)
    assert spread(events, CLOCK, start, 5)["planned"].to_list() == [date(2026, 11, first)]


@pytest.mark.parametrize("capacity", [3, 100])
def test_nothing_is_mended_sooner_than_need_be(capacity: int) -> None:
    """What is due in January is planned in January, where there is room."""
    plan = planned([date(2027, 1, 15)] * 3, capacity)
    assert {monday_of(day) for day in plan if day} == {date(2027, 1, 11)}


def test_a_grace_that_nobody_is_under() -> None:
    """Nothing is pending now, and what turns later has its grace then."""
    told = evidence([{"name": "a", "password_changed": days_ago(5)}])
    found = judged(told, rule("age(password-changed) <= 10d") + 'grace = "3d"\n')
    assert coming(found, AT + timedelta(days=30))["at"].to_list() == [AT + timedelta(days=8, microseconds=1)]
