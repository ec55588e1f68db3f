"""The words of the topic elevation."""

from __future__ import annotations

from datetime import timedelta
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.base.intervals import START, STOP
from keymallet.core.base.listing import how_many
from keymallet.core.topics.elevation import MAY_ASK, OPEN, OVER, STANDING, UNPROVEN, WEEKS
from keymallet.core.topics.report import STATE, Section, TopicReport
from keymallet.views.topic_words.model import SectionWords, TopicWords, span, unproven


def _headline(report: TopicReport) -> str:
    in_force = report.rows.height - report.number(OVER)
    told = f"{report.number(STANDING):,} of {how_many(in_force, 'privileged right')} are standing rights"
    return told + unproven(report.number(UNPROVEN))


def _sentences(report: TopicReport, clock: ZoneInfo) -> list[str]:
    rows = report.rows
    holders = rows.filter(pl.col(STATE) != OVER)["account"].n_unique()
    sentences = [
        f"{how_many(holders, 'account')} hold privileged rights: {report.number(STANDING):,} standing, "
        f"{report.number(MAY_ASK, OPEN):,} on request, {report.number(OPEN):,} of these elevated now"
        f"{unproven(report.number(UNPROVEN))}."
    ]
    if not report.numbers["openings are told of"]:
        return [*sentences, "No source reports elevations: the use of rights on request is not known."]
    hours = report.numbers["open lately"] / timedelta(hours=1)
    sentences.append(
        f"In the last {WEEKS} weeks {how_many(report.numbers['openings lately'], 'opening')} of "
        f"{how_many(report.numbers['people lately'], 'person', 'people')}, {hours:,.0f} h in all."
    )
    unused = int(rows["unused"].sum())
    if unused:
        were = "was" if unused == 1 else "were"
        sentences.append(f"{how_many(unused, 'right')} on request {were} not used lately.")
    return sentences


def _of_account(report: TopicReport, clock: ZoneInfo) -> list[str]:
    rows = _worded(report.rows, report, clock)
    notes = [
        f"{row['held']}: {row['role']}, {row['via'] or 'how it is held is not known'}"
        for row in rows.iter_rows(named=True)
    ]
    opened = report.drawn["openings"]
    if opened.height:
        lasting = opened.select((pl.col(STOP) - pl.col(START)).sum()).item()
        notes.append(f"{how_many(opened.height, 'opening')} in twelve weeks, {span(lasting)} in all")
    return notes


def _worded(rows: pl.DataFrame, report: TopicReport, clock: ZoneInfo) -> pl.DataFrame:
    """The rows with their state as people say it: with the hour, where a right is open for a while."""
    until = pl.col("until").dt.convert_time_zone(clock.key)
    today = until.dt.date() == report.at.astimezone(clock).date()
    when = pl.when(today).then(until.dt.strftime("%H:%M")).otherwise(until.dt.strftime("%Y-%m-%d %H:%M"))
    is_open = pl.col(STATE) == OPEN
    held = pl.when(is_open).then(pl.format("elevated until {}", when)).otherwise(pl.col(STATE))
    return rows.with_columns(held.alias("held"))


def _on_openings(section: Section, report: TopicReport) -> str:
    wanting = int((section.rows["problems"].list.len() > 0).sum())
    return f"{wanting:,} of {section.rows.height:,} to check"


WORDS = TopicWords(
    _headline,
    _sentences,
    _of_account,
    shown=("held", "account", "role", "via", "ends", "last opened"),
    sections={
        "people": SectionWords(
            "most hours of elevation",
            lambda section, report: f"hours a week over the last {WEEKS} weeks; overlaps count once",
            short={"accounts": 1},
        ),
        "openings": SectionWords("elevations, those to check first", _on_openings),
        "outside": SectionWords("signed in outside any elevation"),
    },
    worded=_worded,
)
