"""What lies ahead as a calendar (RFC 5545): a whole-day event for each finding, or for each day.

Each event lies on the last day before the finding counts as a breach, or on the day planned for it,
and keeps its UID from one run to the next, so that a calendar that is read in again is brought up to
date instead of doubled.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Iterator
from datetime import date, datetime, timedelta
from typing import Any

import polars as pl

from keymallet.core.base.listing import and_more, how_many
from keymallet.core.base.optional_packages import extra
from keymallet.core.base.printable import plain
from keymallet.core.history.columns import ADDED
from keymallet.core.judging.run import Occasion
from keymallet.core.studies.ahead import days

MOST_LISTED = 200


def to_calendar(events: pl.DataFrame, due: pl.DataFrame, run: Occasion, by: str) -> bytes:
    """The calendar; `by` is `account` for an event for each finding, or `day`.

    `events` are findings to come, `due` open ones that have to be mended; what is late lies on today.

    Raises KeymalletError if the package for calendars is not installed.
    """
    entries = [_due_by_day, _by_day] if by == "day" else [_due, _by_account]
    told = [*entries[0](due, run), *entries[1](events, run)]
    return _calendar(told, run, f"{run.organisation}: what turns to breach")


def due_calendar(due: pl.DataFrame, run: Occasion) -> bytes:
    """The calendar of what has to be mended alone, an entry each; what is late lies on today.

    An entry is the same as in `to_calendar`: read in from both, it is there once. Raises KeymalletError if
    the package for calendars is not installed.
    """
    return _calendar(_due(due, run), run, f"{run.organisation}: what has to be mended")


def _calendar(entries: Iterable[tuple[date, str, str, str]], run: Occasion, name: str) -> bytes:
    """Whole-day entries: the day, what their UID is made of, summary and description."""
    icalendar: Any = extra("icalendar", "calendar", "calendars")
    calendar = icalendar.Calendar()
    calendar.add("prodid", "-//Keymallet//Keymallet//EN")
    calendar.add("version", "2.0")
    calendar.add("x-wr-calname", plain(name))
    for day, key, summary, description in entries:
        event = icalendar.Event()
        event.add("uid", f"{hashlib.sha256(key.encode()).hexdigest()[:32]}@keymallet")
        event.add("dtstamp", run.at)
        event.add("dtstart", day)
        event.add("dtend", day + timedelta(days=1))
        # The format has no place for characters that steer a terminal, or hide.
        event.add("summary", plain(summary))
        event.add("description", "\n".join(map(plain, description.splitlines())))
        event.add("transp", "TRANSPARENT")
        calendar.add_component(event)
    data: bytes = calendar.to_ical()
    return data


def _dated(events: pl.DataFrame, run: Occasion) -> Iterator[tuple[date, dict[str, Any]]]:
    last_days = days(events["at"] - timedelta(microseconds=1), run.clock).to_list()
    for day, row in zip(last_days, events.iter_rows(named=True), strict=True):
        yield row.get("planned") or day, row


def _by_account(events: pl.DataFrame, run: Occasion) -> Iterator[tuple[date, str, str, str]]:
    for day, row in _dated(events, run):
        who = _who(row)
        key = f"{run.organisation}\0{row['rule']}\0{row['account']}\0{row['subject']}"
        counts = f"Counts as a breach from {row['at'].astimezone(run.clock):%Y-%m-%d %H:%M}."
        advice = f"\n{row['advice']}" if row["advice"] else ""
        said = f"{row['severity']}, rule {row['rule']}. {counts}{advice}\n{_known(row, run)}"
        yield day, key, f"{who}: {row['title']}", said


def _due(due: pl.DataFrame, run: Occasion) -> Iterator[tuple[date, str, str, str]]:
    for day, row in _due_on(due, run):
        key = f"due\0{row['finding-id']}"
        summary = f"{'late' if row['late-by'] else 'due'}: {_who(row)}: {row['title']}"
        yield day, key, summary, f"{row['severity']}, rule {row['rule']}.\n{_known(row, run)}"


def _due_by_day(due: pl.DataFrame, run: Occasion) -> Iterator[tuple[date, str, str, str]]:
    by_day: dict[date, list[str]] = {}
    for day, row in _due_on(due, run):
        by_day.setdefault(day, []).append(f"{row['severity']}: {_who(row)}: {row['title']}")
    for day, lines in sorted(by_day.items()):
        yield (
            day,
            f"{run.organisation}\0due\0{day}",
            f"{len(lines):,} have to be mended by now",
            _listed(lines),
        )


def _due_on(due: pl.DataFrame, run: Occasion) -> Iterator[tuple[date, dict[str, Any]]]:
    today = run.at.astimezone(run.clock).date()
    for row in due.iter_rows(named=True):
        day = row["due"].astimezone(run.clock).date()
        yield max(day, today), row


def _known(row: dict[str, Any], run: Occasion) -> str:
    """What the logbook knows of a finding, and what it will be known by: a line for each."""
    told = []
    for name in ADDED:
        value = row.get(name)
        if isinstance(value, datetime):
            value = f"{value.astimezone(run.clock):%Y-%m-%d %H:%M}"
        elif isinstance(value, timedelta):
            value = how_many(value.days, "day") if value.days else "less than a day"
        told += [f"{name}: {value}"] if value else []
    return "\n".join(told)


def _by_day(events: pl.DataFrame, run: Occasion) -> Iterator[tuple[date, str, str, str]]:
    by_day: dict[date, list[str]] = {}
    for day, row in _dated(events, run):
        by_day.setdefault(day, []).append(f"{row['severity']}: {_who(row)}: {row['title']}")
    for day, lines in sorted(by_day.items()):
        summary = f"{len(lines):,} to mend before they turn to breach"
        yield day, f"{run.organisation}\0{day}", summary, _listed(lines)


def _listed(lines: list[str]) -> str:
    rest = [and_more(len(lines) - MOST_LISTED)] if len(lines) > MOST_LISTED else []
    return "\n".join([*lines[:MOST_LISTED], *rest])


def _who(row: dict[str, Any]) -> str:
    return f"{row['account'] or ''}{' [' + row['subject'] + ']' if row['subject'] else ''}"
