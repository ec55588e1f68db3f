"""What a topic's words consist of: a topic hands out instants, numbers and lists; here they are worded."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.facts import wording
from keymallet.core.topics.report import Section, TopicReport


@dataclass(frozen=True)
class SectionWords:
    """How a table beside a report reads: its title, and a sentence that belongs beneath it.

    `short` are columns of names of which the first so many will do, `to_the_minute` instants of which a
    day is too coarse. `worded` makes of its rows what a terminal shows.
    """

    title: str
    note: Callable[[Section, TopicReport], str] = lambda section, report: ""
    short: Mapping[str, int] = field(default_factory=dict)
    to_the_minute: tuple[str, ...] = ()
    worded: Callable[[pl.DataFrame], pl.DataFrame] = lambda rows: rows


@dataclass(frozen=True)
class TopicWords:
    """The words of one topic.

    `headline` says the worst in one line, `sentences` the topic in a few; `of_account` says in a few words
    what part the one account has that a report was made of, or nothing where it has none. `worded` adds
    columns of text to the rows, for the terminal alone; `shown` are the columns that it has room for.
    """

    headline: Callable[[TopicReport], str]
    sentences: Callable[[TopicReport, ZoneInfo], list[str]]
    of_account: Callable[[TopicReport, ZoneInfo], list[str]]
    shown: tuple[str, ...]
    sections: Mapping[str, SectionWords] = field(default_factory=dict)
    worded: Callable[[pl.DataFrame, TopicReport, ZoneInfo], pl.DataFrame] = lambda rows, report, clock: rows


def day(instant: datetime, clock: ZoneInfo) -> str:
    """`2026-11-24`, in the clock."""
    return f"{instant.astimezone(clock):%Y-%m-%d}"


def span(length: timedelta) -> str:
    """`31 d`, `6 h`."""
    return str(wording.spans(pl.Series([length], dtype=pl.Duration("us")))[0])


def minutes(column: str, clock: ZoneInfo) -> pl.Expr:
    """Instants to the minute, in the clock."""
    return pl.col(column).dt.convert_time_zone(clock.key).dt.strftime("%Y-%m-%d %H:%M")


def unproven(number: int) -> str:
    """`, 12 not known (data missing)`, to follow what can; empty for none."""
    return f", {number:,} not known (data missing)" if number else ""
