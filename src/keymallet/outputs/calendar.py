"""What lies ahead as a calendar (RFC 5545): a whole-day event for each finding, or for each day.

Each event lies on the last day before the finding counts as a breach, or on the day planned for it,
and keeps its UID from one run to the next, so that a calendar that is read in again is brought up to
date instead of doubled.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from datetime import date, timedelta
from typing import Any

import polars as pl

from keymallet.core.base.listing import and_more
from keymallet.core.base.optional_packages import extra
from keymallet.core.judging.run import Run
from keymallet.core.studies.ahead import days

MOST_LISTED = 200


def to_calendar(events: pl.DataFrame, run: Run, by: str) -> bytes:
    """The calendar; `by` is `account` for an event for each finding, or `day`.

    Raises KeymalletError if the package for calendars is not installed.
    """
    icalendar: Any = extra("icalendar", "calendar", "calendars")
    calendar = icalendar.Calendar()
    calendar.add("prodid", "-//Keymallet//Keymallet//EN")
    calendar.add("version", "2.0")
    calendar.add("x-wr-calname", f"{run.organisation}: what turns to breach")
    entries = _by_day(events, run) if by == "day" else _by_account(events, run)
    for day, key, summary, description in entries:
        event = icalendar.Event()
        event.add("uid", f"{hashlib.sha256(key.encode()).hexdigest()[:32]}@keymallet")
        event.add("dtstamp", run.at)
        event.add("dtstart", day)
        event.add("dtend", day + timedelta(days=1))
        event.add("summary", summary)
        event.add("description", description)
        event.add("transp", "TRANSPARENT")
        calendar.add_component(event)
    data: bytes = calendar.to_ical()
    return data


def _dated(events: pl.DataFrame, run: Run) -> Iterator[tuple[date, dict[str, Any]]]:
    last_days = days(events["at"] - timedelta(microseconds=1), run.clock).to_list()
    for day, row in zip(last_days, events.iter_rows(named=True), strict=True):
        yield row.get("planned") or day, row


def _by_account(events: pl.DataFrame, run: Run) -> Iterator[tuple[date, str, str, str]]:
    for day, row in _dated(events, run):
        who = _who(row)
        key = f"{run.organisation}\0{row['rule']}\0{row['account']}\0{row['subject']}"
        counts = f"Counts as a breach from {row['at'].astimezone(run.clock):%Y-%m-%d %H:%M}."
        advice = f"\n{row['advice']}" if row["advice"] else ""
        yield day, key, f"{who}: {row['title']}", f"{row['severity']}, rule {row['rule']}. {counts}{advice}"


def _by_day(events: pl.DataFrame, run: Run) -> Iterator[tuple[date, str, str, str]]:
    by_day: dict[date, list[str]] = {}
    for day, row in _dated(events, run):
        by_day.setdefault(day, []).append(f"{row['severity']}: {_who(row)}: {row['title']}")
    for day, lines in sorted(by_day.items()):
        rest = [and_more(len(lines) - MOST_LISTED)] if len(lines) > MOST_LISTED else []
        summary = f"{len(lines):,} to mend before they turn to breach"
        yield day, f"{run.organisation}\0{day}", summary, "\n".join([*lines[:MOST_LISTED], *rest])


def _who(row: dict[str, Any]) -> str:
    return f"{row['account'] or ''}{' [' + row['subject'] + ']' if row['subject'] else ''}"
