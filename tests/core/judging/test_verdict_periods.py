"""Verdicts over time: exact to the microsecond, against the slow reference judged at one instant after another."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime, timedelta
from typing import Any

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

from keymallet.core.evaluating.steps import ROW, VALUE
from keymallet.core.evaluating.time_breakpoints import Line
from keymallet.core.facts.declaration import TABLES
from keymallet.core.judging.verdict_periods import verdict_steps
from keymallet.core.judging.verdicts import Verdict
from keymallet.core.language.lowering import AT as INSTANT
from tests.core.reference import Evaluator, World
from tests.core.strategies import (
    CHILDREN,
    evidence_of,
    expected_verdict,
    expressions,
    parsed,
    rules_of,
    worlds,
)
from tests.profiles import examples
from tests.support import AT, days_ago, evidence, judged, rule

TICK = timedelta(microseconds=1)
STEADY = examples(30)


def as_of(world: World, at: datetime) -> World:
    """The world as it is judged at another instant: what has not happened by then is not known."""

    def seen(table: str, row: dict[str, Any]) -> dict[str, Any]:
        later = [
            column.name
            for column in TABLES[table].columns
            if column.past and row[column.name] is not None and row[column.name] > at
        ]
        return row | dict.fromkeys(later) | {"unread": [*(row.get("unread") or []), *later] or None}

    return replace(
        world,
        at=at,
        accounts=[seen("account", row) for row in world.accounts],
        children={name: [seen(name, row) for row in rows] for name, rows in world.children.items()},
        people=[seen("person", row) for row in world.people],
    )


def rows_of(world: World, table: str) -> list[dict[str, Any]]:
    return {"account": world.accounts, "person": world.people, **world.children}[table]


def expected(world: World, table: str, who: str, must: str, at: datetime) -> list[Verdict]:
    """The reference's verdicts on all rows at one instant."""
    then = as_of(world, at)
    return [
        expected_verdict(evaluator.value(parsed(who)), evaluator.value(parsed(must)))
        for evaluator in (Evaluator(then, table, row) for row in rows_of(then, table))
    ]


def instants_of(world: World) -> list[datetime]:
    """Every instant at which any of the expressions drawn could change, and those just before and after."""
    rows = [*world.accounts, *world.people, *(row for rows in world.children.values() for row in rows)]
    known = {value for row in rows for value in row.values() if isinstance(value, datetime)}
    known |= {AT, datetime.fromisoformat("2026-11-23T09:00Z")}
    hours = (0, 24, 36, 48, 12, 60, 72, -24, -36, -48)
    shifted = {each + timedelta(hours=hour) for each in known for hour in hours}
    return sorted({each + step * TICK for each in shifted for step in (-1, 0, 1)})


def value_at(steps: pl.DataFrame, row: int, at: datetime, otherwise: int) -> int:
    mine = steps.filter((pl.col(ROW) == row) & (pl.col(INSTANT) <= at))
    return mine[VALUE][-1] if mine.height else otherwise


def follows_the_reference(world: World, table: str, who: str, must: str) -> None:
    """The steps, before and after the instant judged at, are the reference's verdicts at every instant."""
    if not rows_of(world, table):
        return
    judgement = judged(evidence_of(world), rules_of(table, [(who, must)]))
    asked = judgement.rulebook.rules[0]
    codes = judgement.codes["r0"]
    rows = pl.int_range(len(codes), dtype=pl.UInt32, eager=True)
    past = verdict_steps(judgement.past, asked, rows)
    future = verdict_steps(judgement.future, asked, None)
    assert future.equals(verdict_steps(judgement.future, asked, rows)), (who, must)
    for at in instants_of(world):
        told = expected(world, table, who, must, at)
        for row, verdict in enumerate(told):
            steps = past if at <= AT else future
            assert Verdict(value_at(steps, row, at, codes[row])) is verdict, (who, must, row, at)


@STEADY
@given(worlds(), expressions("account"), expressions("account"))
def test_verdicts_on_accounts_over_time(world: World, who: str, must: str) -> None:
    """Questions about rows change with their rows; what has not happened is not known."""
    follows_the_reference(world, "account", who, must)


@STEADY
@given(worlds(), st.sampled_from(CHILDREN), st.data())
def test_verdicts_on_rows_over_time(world: World, table: str, data: st.DataObject) -> None:
    """So they do where the rule is for each key, and asks of its account."""
    follows_the_reference(world, table, data.draw(expressions(table, 2)), data.draw(expressions(table, 2)))


@STEADY
@given(worlds(), expressions("person", 2), expressions("person", 2))
def test_verdicts_on_people_over_time(world: World, who: str, must: str) -> None:
    """And for people, also where it is not known whose an account is."""
    follows_the_reference(world, "person", who, must)


MOVING = (
    "age(created) > 1d",
    "until(ends) > 0s",
    "age(last-sign-in) <= 2d",
    "some key (until(expires) > 0s)",
)
ASKED = ("some", "no", "every", "count")


@STEADY
@given(worlds(), st.sampled_from(MOVING), st.sampled_from(ASKED))
def test_accounts_that_may_be_somebodys_over_time(world: World, condition: str, question: str) -> None:
    """While an account that may be theirs may count, the answer is open."""
    asked = f"{question} account ({condition})" + (" <= 1" if question == "count" else "")
    follows_the_reference(world, "person", "true", asked)


def lasts(must: str, who: str = "true", at: datetime = AT, **facts: Any) -> tuple[Any, Any, Any]:
    """Since when one account has its verdict, until when, and when it turns to breach."""
    judgement = judged(evidence([facts]), rule(must, who), at)
    rows, only = pl.Series([0], dtype=pl.UInt32), judgement.rulebook.rules[0]
    turning = judgement.turning(only)[INSTANT].to_list()
    return (judgement.since(only, rows)[0], judgement.until(only, rows)[0], turning[0] if turning else None)


def test_an_age_past_its_limit() -> None:
    """It is in breach from the first microsecond past 90 days, and time alone does not end it."""
    began = days_ago(100) + timedelta(days=90) + TICK
    assert lasts("age(created) <= 90d", created=days_ago(100)) == (began, None, None)


def test_an_age_within_its_limit() -> None:
    """It is met from the day it was made until the first microsecond past 90 days."""
    ends = days_ago(10) + timedelta(days=90) + TICK
    assert lasts("age(created) <= 90d", created=days_ago(10)) == (days_ago(10), ends, ends)


def test_what_no_time_changes() -> None:
    """No date bears on it: since when cannot be told."""
    assert lasts("enabled", enabled=False) == (None, None, None)


def test_a_breach_that_ends_by_itself() -> None:
    """Past its end the account is out of scope."""
    found = lasts("not enabled", "until(ends) > 0s", enabled=True, ends=days_ago(-3))
    assert found == (None, days_ago(-3), None)


def test_two_dates_that_approach_each_other() -> None:
    """Halfway between two instants, also where that lies between two microseconds."""
    found = lasts("age(starts) <= until(ends)", starts=days_ago(1), ends=days_ago(-2) + TICK)
    assert found[2] == days_ago(-0.5) + TICK


def test_an_hour_of_the_day_now() -> None:
    """10:00 in the estate's clock: night begins at 22:00 and the last one ended at six."""
    six, ten = (datetime.fromisoformat(f"2026-11-24T{hour}:00+01:00") for hour in ("06", "22"))
    found = lasts("hour-of(at) in [22, 23, 0, 1, 2, 3, 4, 5]", enabled=True)
    assert found == (six, ten, None)


def test_a_day_of_the_week_long_after() -> None:
    """The first Sunday after 90 days of age, without asking of every day before."""
    sunday = datetime.fromisoformat("2027-02-28T00:00+01:00")
    found = lasts("not (weekday-of(at) = sunday and age(created) > 90d)", created=days_ago(0))
    assert found[2] == sunday


def test_before_the_reading() -> None:
    """Judged at an earlier instant, what happens later turns up when it happens."""
    found = lasts("age(last-sign-in) <= 45d", at=days_ago(50), last_sign_in=days_ago(1))
    assert found == (None, days_ago(1), days_ago(1) + timedelta(days=45) + TICK)


def test_the_latest_of_several_rows() -> None:
    """The newest use counts, and of those only while its condition holds."""
    world = evidence(
        [{"enabled": True}],
        key=[
            {"of": 0, "last_used": days_ago(1), "expires": days_ago(-5)},
            {"of": 0, "last_used": days_ago(20), "expires": days_ago(-90)},
        ],
    )
    judgement = judged(world, rule("age(latest key.last-used (until(expires) > 0s)) <= 10d"))
    assert judgement.turning(judgement.rulebook.rules[0])[INSTANT].to_list() == [days_ago(-5)]


def test_an_account_of_one_of_several_people() -> None:
    """Once it counts, it is open for each of those whose it may be, and for nobody else."""
    supply = {"d": {"account": ["created", "person"], "person": ["person"]}}
    account = {"created": days_ago(0.5), "candidates": ["p0", "p1"], "unread": ["person"]}
    people = [{"person": f"p{number}"} for number in range(3)]
    judgement = judged(
        evidence([account], supply, person=people), rule("no account (age(created) > 1d)", each="person")
    )
    rows, only = pl.Series([0, 1, 2], dtype=pl.UInt32), judgement.rulebook.rules[0]
    counts = days_ago(-0.5) + TICK
    assert judgement.until(only, rows).to_list() == [counts, counts, None]


def test_how_many_accounts_a_person_has_over_time() -> None:
    """Too many until one of them ends, at the instant at which it does."""
    accounts = [{"of": 0, "ends": days_ago(-3)}, {"of": 0, "ends": days_ago(-9)}]
    judgement = judged(
        evidence(accounts, person=[{"person": "p0"}]),
        rule("count account (until(ends) > 0s) <= 1", each="person"),
    )
    rows, only = pl.Series([0], dtype=pl.UInt32), judgement.rulebook.rules[0]
    assert Verdict(judgement.codes[only.id][0]) is Verdict.BREACH
    assert judgement.until(only, rows).to_list() == [days_ago(-3)]


def test_a_row_counts_from_the_very_instant_at_which_it_begins_to() -> None:
    """The newer use is that of a key which works only from then on."""
    world = evidence(
        [{"enabled": True}],
        key=[
            {"of": 0, "last_used": days_ago(1), "starts": days_ago(-5)},
            {"of": 0, "last_used": days_ago(20), "starts": days_ago(90)},
        ],
    )
    judgement = judged(world, rule("age(latest key.last-used (until(starts) <= 0s)) <= 10d"))
    rows, only = pl.Series([0], dtype=pl.UInt32), judgement.rulebook.rules[0]
    assert judgement.until(only, rows).to_list() == [days_ago(-5)]


def test_lines_add_up() -> None:
    """Slope and offset of a sum, and of a difference."""
    one, other = Line(2, pl.lit(5)), Line(1, pl.lit(3))
    for sign, slope, offset in ((1, 3, 8), (-1, 1, 2)):
        line = one.plus(other, sign)
        assert (line.slope, pl.select(line.offset).item()) == (slope, offset)
    assert (one.times(3).slope, pl.select(one.times(3).offset).item()) == (6, 15)
