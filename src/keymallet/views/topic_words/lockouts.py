"""The words of the topic lockouts."""

from __future__ import annotations

from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.base.listing import how_many
from keymallet.core.topics.lockouts import (
    ADMINISTRATOR,
    BY_ITSELF,
    DESK,
    GETS_IN,
    LOCKED,
    NEAR,
    NOT_KNOWN,
    UNPROVEN,
    WHEN_LIFTED,
)
from keymallet.core.topics.report import STATE, TopicReport
from keymallet.views.topic_words.model import SectionWords, TopicWords, day, minutes, unproven

_WHO = {
    DESK: "the service desk",
    ADMINISTRATOR: "an administrator",
    BY_ITSELF: "itself",
    NOT_KNOWN: "the service desk or an administrator",
}
_CAUSES = {"failed-attempts": "failures"}


def _headline(report: TopicReport) -> str:
    held = how_many(report.number(GETS_IN, LOCKED), "account")
    return f"{held} locked, {report.number(NEAR):,} near it{unproven(report.number(UNPROVEN))}"


def _sentences(report: TopicReport, clock: ZoneInfo) -> list[str]:
    rows = report.rows
    held = rows.filter(pl.col(STATE).is_in([GETS_IN, LOCKED]))
    causes = held["cause"].value_counts().sort("count", "cause", descending=[True, False]).iter_rows()
    by = ", ".join(
        f"{number:,} by {_CAUSES.get(cause, cause)}" if cause else f"{number:,} cause not known"
        for cause, number in causes
    )
    sentences = [
        f"{how_many(held.height, 'account')} locked{': ' + by if by else ''}"
        f"{unproven(report.number(UNPROVEN))}."
    ]
    lifted = int((held["ends"] == WHEN_LIFTED).sum())
    if lifted:
        strong = int((held["unlocked by"] == ADMINISTRATOR).sum())
        sentences.append(
            f"{lifted:,} of them stay locked until somebody unlocks them"
            + (f", {strong:,} need an administrator." if strong else ".")
        )
    again = int(rows["again"].sum())
    if again:
        sentences.append(f"{again:,} locked more than once, by the sign-ins on record.")
    if not report.numbers["sign-ins are told of"]:
        return [*sentences, "No source reports sign-ins: failures are not known."]
    first = report.numbers["first failure"]
    since = f"since {day(first, clock)}" if first else "on record"
    return [*sentences, f"{how_many(report.numbers['failures'], 'failed sign-in')} {since}."]


def _of_account(report: TopicReport, clock: ZoneInfo) -> list[str]:
    if not report.rows.height:
        return []
    row = _worded(report.rows, report, clock).row(0, named=True)
    locked = row["ends"] is not None
    notes = ["locked, but a key or a session still works" if row[STATE] == GETS_IN else row[STATE]]
    if locked:
        notes += [f"by {_CAUSES.get(row['cause'], row['cause'])}"] if row["cause"] else []
        notes += [f"since {day(row['since'], clock)}"] if row["since"] else []
        notes += [f"until {row['lasts']}" if row["until"] else row["lasts"]]
    if row["failures"] and row["of"]:
        notes.append(f"{how_many(row['failures'], 'failure')} of {row['of']}")
    if row["locks"]:
        notes.append(f"locked {how_many(row['locks'], 'time')} by the sign-ins on record")
    return ["; ".join(notes)]


def _worded(rows: pl.DataFrame, report: TopicReport, clock: ZoneInfo) -> pl.DataFrame:
    """The rows with what holds an account, how long that lasts, and its failures, each in words."""
    is_locked = pl.col("ends").is_not_null()
    cause = pl.col("cause").replace(_CAUSES)
    held = pl.when(is_locked & cause.is_not_null()).then(pl.format("{} by {}", STATE, cause)).otherwise(STATE)
    lasts = (
        pl.when(is_locked & pl.col("until").is_not_null())
        .then(minutes("until", clock))
        .when(pl.col("ends") == WHEN_LIFTED)
        .then(pl.format("needs {}", pl.col("unlocked by").replace(_WHO)))
        .when(is_locked)
        .then(pl.lit("not known"))
    )
    failed = (
        pl.when(pl.col("of").is_null())
        .then(pl.col("failures").cast(pl.String))
        .otherwise(pl.format("{} of {}", "failures", "of"))
    )
    return rows.with_columns(held.alias("held"), lasts.alias("lasts"), failed.alias("failed"))


WORDS = TopicWords(
    _headline,
    _sentences,
    _of_account,
    shown=("held", "account", "since", "lasts", "failed"),
    sections={
        "origins": SectionWords(
            "one origin, many accounts",
            lambda section, report: "looks like a few passwords tried on many accounts",
            to_the_minute=("from", "to"),
        ),
        "attacked": SectionWords("many failures, one account", to_the_minute=("from", "to")),
        "settings": SectionWords("lockout settings of each system"),
        "exposed": SectionWords(
            "emergency accounts that failed sign-ins can lock",
            lambda section, report: "anybody who knows the name can lock it when it is needed",
        ),
    },
    worded=_worded,
)
