"""What will turn to breach, and when, if nothing but time changes; and when to mend it in time."""

from __future__ import annotations

import heapq
from collections import Counter
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.base.parallel import in_parallel
from keymallet.core.evaluating.steps import ROW
from keymallet.core.evaluating.timeline import Timeline
from keymallet.core.explaining.finding_subject import subjects_of
from keymallet.core.facts.declaration import TABLES
from keymallet.core.facts.evidence import INSTANT
from keymallet.core.judging.judge import Judgement
from keymallet.core.judging.verdict_periods import turns_to_breach
from keymallet.core.language.lowering import AT
from keymallet.core.rulebook.model import SEVERITIES, Rule, Severity

COLUMNS = ("at", "rule", "title", "severity", "account", "subject", "display", "unit", "mend", "advice")
WORKING_DAYS = 5


def coming(judgement: Judgement, end: datetime) -> pl.DataFrame:
    """What turns to breach after the instant judged at, up to `end`, in the order of time.

    `at` is the first instant at which it is a breach, `rule` and `severity` which one, ROW which row of
    the rule's table. `described` says subjects_of it is.
    """
    future = Timeline.from_now(judgement.context, end)
    judged = [rule for rule in judgement.rulebook.rules if len(judgement.codes[rule.id])]
    rules = pl.Enum([rule.id for rule in judgement.rulebook.rules])
    grades = pl.Enum([severity.word for severity in Severity])
    schema = {"at": INSTANT, "rule": rules, "severity": grades, ROW: pl.UInt32()}
    past = judgement.past
    per_rule = in_parallel(
        lambda rule: turns_to_breach(
            past, future, rule, judgement.codes[rule.id], covers=judgement.covered(rule)
        ),
        judged,
    )
    parts = [pl.DataFrame(schema=schema)]
    for rule, turns in zip(judged, per_rule, strict=True):
        named = [
            pl.lit(rule.id, dtype=rules).alias("rule"),
            pl.lit(rule.severity.word, dtype=grades).alias("severity"),
        ]
        parts.append(turns.select(pl.col(AT).alias("at"), *named, ROW))
    return pl.concat(parts).sort("at", maintain_order=True)


def described(judgement: Judgement, events: pl.DataFrame) -> pl.DataFrame:
    """The same events with COLUMNS: whom each is about, what mends it."""
    numbered = events.with_row_index("place")
    parts = []
    for rule in judgement.rulebook.rules:
        mine = numbered.filter(pl.col("rule") == rule.id)
        if mine.height:
            who = subjects_of(judgement.context, TABLES[rule.table], mine[ROW])
            parts.append(mine.drop(ROW).hstack(who).with_columns(_of(rule)))
    if not parts:
        return pl.DataFrame(schema={name: INSTANT if name == "at" else pl.String() for name in COLUMNS})
    whole = pl.concat(parts).sort("place").with_columns(pl.col("rule", "severity").cast(pl.String))
    return whole.select(COLUMNS)


def planned(told: pl.DataFrame, events: pl.DataFrame) -> pl.DataFrame:
    """What is said of the first of these events, with the day on which each is planned."""
    after = told.get_column_index(COLUMNS[-1]) + 1
    return told.clone().insert_column(after, events["planned"].head(told.height))


def _of(rule: Rule) -> list[pl.Expr]:
    texts = {"title": rule.title, "mend": rule.mend, "advice": rule.advice}
    return [pl.lit(value).alias(name) for name, value in texts.items()]


def days(instants: pl.Series, clock: ZoneInfo) -> pl.Series:
    """The day of the clock on which each instant lies."""
    return instants.dt.convert_time_zone(clock.key).dt.date()


@dataclass(frozen=True)
class Week:
    """One week: its Monday, how much turns to breach in it by rule, and how much is planned in it.

    `late` is how much of what turns could not be planned before it does.
    """

    monday: date
    by_rule: Counter[str]
    planned: int = 0
    late: int = 0

    @property
    def turning(self) -> int:
        """How much turns to breach in this week."""
        return sum(self.by_rule.values())


def monday_of(day: date) -> date:
    """The Monday of a day's week."""
    return day - timedelta(days=day.weekday())


def weeks(events: pl.DataFrame, clock: ZoneInfo, start: datetime, end: datetime) -> list[Week]:
    """Every week from `start` to `end`, also those in which nothing happens.

    `planned` counts the days in the column of that name, where there is one (see `spread`).
    """
    on = days(events["at"], clock)
    counted: dict[date, Counter[str]] = {}
    grouped = pl.DataFrame({"monday": on.dt.truncate("1w"), "rule": events["rule"]})
    for monday, rule, number in grouped.group_by("monday", "rule").len().sort("monday", "rule").iter_rows():
        counted.setdefault(monday, Counter())[rule] = number
    planned: dict[date, int] = {}
    late: dict[date, int] = {}
    if "planned" in events.columns:
        of_plan = events.drop_nulls("planned").group_by(pl.col("planned").dt.truncate("1w")).len()
        planned = dict(of_plan.iter_rows())
        unplanned = grouped.filter(events["planned"].is_null())
        late = dict(unplanned.group_by("monday").len().iter_rows())
    first, last = (monday_of(instant.astimezone(clock).date()) for instant in (start, end))
    number = (last - first).days // 7 + 1
    mondays = [first + timedelta(weeks=week) for week in range(number)]
    return [
        Week(monday, counted.get(monday, Counter()), planned.get(monday, 0), late.get(monday, 0))
        for monday in mondays
    ]


def spread(events: pl.DataFrame, clock: ZoneInfo, start: datetime, capacity: int) -> pl.DataFrame:
    """The events with `planned`: the working day on which each is to be mended; null where none is left.

    No week holds more than `capacity`, and everything is planned on a working day before the day on
    which it would turn to breach, as late as can be, in the order of their deadlines. Where more is due
    by a week than can be done until then, as little as possible is left out, the least grave first.
    """
    # One place for each event, the same in `due` (the last day to mend it), `grave` (how severe it is) and
    # `planned`; `waiting` holds places, in the order of what is due first. The weeks are filled from the last
    # one back, so that everything is done as late as can be.
    first = _working_day_from(start.astimezone(clock).date())
    due = [_last_working_day(day) for day in days(events["at"], clock).to_list()]
    grave = [SEVERITIES[word] for word in events["severity"]]
    waiting = _that_fit(due, grave, first, capacity)
    planned: list[date | None] = [None] * len(due)
    # From the week of the last deadline back to now.
    monday = monday_of(due[waiting[-1]]) if waiting else first
    while waiting:
        begin = next((place for place, item in enumerate(waiting) if due[item] >= monday), len(waiting))
        room = min(_room(monday, first, capacity), len(waiting) - begin)
        mine = waiting[len(waiting) - room :]
        _plan_week(planned, mine, due, monday, first)
        waiting = waiting[: len(waiting) - room]
        monday -= timedelta(weeks=1)
    return events.with_columns(pl.Series("planned", planned, dtype=pl.Date))


def _that_fit(due: list[date], grave: list[Severity], first: date, capacity: int) -> list[int]:
    """The places of what can be done in time, in the order of the deadlines.

    Taken in that order, what is too much by a deadline is taken out again, the least grave of all so
    far: for jobs of one size this leaves out as little, and as little of weight, as can be (J. M. Moore,
    1968, on the number of late jobs).
    """
    in_order = sorted((place for place, day in enumerate(due) if day >= first), key=lambda place: due[place])
    kept: list[tuple[Severity, int, int]] = []
    left_out: set[int] = set()
    until = monday_of(first)
    done = _room(until, first, capacity)
    for number, place in enumerate(in_order):
        while until < monday_of(due[place]):
            until += timedelta(weeks=1)
            done += capacity
        heapq.heappush(kept, (grave[place], -number, place))
        if len(kept) > done:
            left_out.add(heapq.heappop(kept)[2])
    return [place for place in in_order if place not in left_out]


def _room(monday: date, first: date, capacity: int) -> int:
    """How much fits in a week: in the one that has begun, only what is left of it."""
    left = WORKING_DAYS - first.weekday() if monday_of(first) == monday else WORKING_DAYS
    return -(-capacity * left // WORKING_DAYS)


def _plan_week(
    planned: list[date | None], places: list[int], due: list[date], monday: date, first: date
) -> None:
    """Spread over the working days of the week, each before its deadline."""
    start = max(monday, first)
    left = WORKING_DAYS - start.weekday()
    for number, place in enumerate(places):
        day = start + timedelta(days=number * left // len(places))
        planned[place] = min(day, due[place])


def _working_day_from(day: date) -> date:
    while day.weekday() >= WORKING_DAYS:
        day += timedelta(days=1)
    return day


def _last_working_day(day: date) -> date:
    """The last working day before a day."""
    day -= timedelta(days=1)
    while day.weekday() >= WORKING_DAYS:
        day -= timedelta(days=1)
    return day
