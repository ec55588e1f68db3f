"""One account's part in each topic, in a few words: made of the topic's report of that account alone."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.base.intervals import START, STOP
from keymallet.core.base.listing import how_many
from keymallet.core.facts import wording
from keymallet.core.topics.lockouts import GETS_IN
from keymallet.core.topics.report import STATE, TopicReport


def about(report: TopicReport, clock: ZoneInfo) -> list[str]:
    """What there is to say of the one account that a report was made of; nothing where it has no part."""
    return _ABOUT[report.topic](report, clock)


def _factors(report: TopicReport, clock: ZoneInfo) -> list[str]:
    if not report.rows.height:
        return ["cannot be signed in to"]
    row = report.rows.row(0, named=True)
    level = "" if row["level"] == "unproven" else f": can prove a sign-in to {row['level']}"
    notes = [f"{row[STATE]}{level}"]
    gates = {"asked": row["covered by"], "left out": row["left out by"]}.get(row["gate"], row["watched by"])
    notes.append(f"gates: {row['gate']}{' by ' + ', '.join(gates) if gates else ''}")
    if row["second factors"] == 1:
        notes.append("one second factor: the last one left")
    return ["; ".join(notes)]


def _passwords(report: TopicReport, clock: ZoneInfo) -> list[str]:
    if not report.rows.height:
        return []
    row = report.rows.row(0, named=True)
    notes = [row[STATE]]
    if row["age"] is not None:
        limit = f"the limit is {_long(row['limit'])} by {row['limit by']}" if row["limit"] else "no limit"
        notes.append(f"{_long(row['age'])} old, {limit}")
    if row["due"] is not None:
        notes.append(f"due {_day(row['due'], clock)}")
    if row["shared with"]:
        notes.append(f"the same as that of {', '.join(row['shared with'])}")
    return ["; ".join(notes)]


def _lockouts(report: TopicReport, clock: ZoneInfo) -> list[str]:
    if not report.rows.height:
        return []
    row = report.rows.row(0, named=True)
    notes = ["locked, and gets in by a key or a session" if row[STATE] == GETS_IN else row[STATE]]
    notes += [f"by {row['cause']}"] if row["cause"] and row["lasts"] else []
    notes += [f"since {_day(row['since'], clock)}"] if row["since"] and row["lasts"] else []
    notes += [f"until {row['ends']}" if row["until"] else row["lasts"]] if row["lasts"] else []
    notes += (
        [f"{how_many(row['failures'], 'failure')} of {row['of']}"] if row["failures"] and row["of"] else []
    )
    notes += [f"locked {how_many(row['locks'], 'time')} by the sign-ins kept"] if row["locks"] else []
    return ["; ".join(notes)]


def _exemptions(report: TopicReport, clock: ZoneInfo) -> list[str]:
    covering = report.rows.filter(pl.col("covers") > 0)
    notes = []
    for row in covering.iter_rows(named=True):
        until = f"until {_day(row['until'], clock)}" if row["until"] else "no end"
        holds, rules = _holds(row[STATE]), ", ".join(row["rules"])
        notes.append(f"{row['exemption']} ({row['kind']}): {holds}, {until}; rules: {rules}")
    return notes


def _holds(state: str) -> str:
    """Of one account it is not told whether an entry is amiss: that rests on all it covers."""
    return state if state.startswith(("over", "not yet")) else "in force"


def _elevation(report: TopicReport, clock: ZoneInfo) -> list[str]:
    notes = [f"{row['held']}: {row['role']}, {row['via'] or 'nobody tells through what'}"
            for row in report.rows.iter_rows(named=True)]  # fmt: skip
    opened = report.drawn["openings"]
    if opened.height:
        lasting = (opened[STOP] - opened[START]).sum()
        notes.append(f"{how_many(opened.height, 'opening')} in twelve weeks, {_long(lasting)} in all")
    return notes


def _temporary(report: TopicReport, clock: ZoneInfo) -> list[str]:
    return [
        f"{row['what']}{' ' + row['which'] if row['which'] else ''}: {', '.join(row['amiss']) or row[STATE]}"
        f"{', ends ' + _day(row['ends'], clock) if row['ends'] else ', no end'}"
        for row in report.rows.iter_rows(named=True)
    ]


def _day(instant: datetime, clock: ZoneInfo) -> str:
    return f"{instant.astimezone(clock):%Y-%m-%d}"


def _long(span: object) -> str:
    return str(wording.spans(pl.Series([span], dtype=pl.Duration("us")))[0])


_ABOUT: dict[str, Callable[[TopicReport, ZoneInfo], list[str]]] = {
    "factors": _factors,
    "passwords": _passwords,
    "lockouts": _lockouts,
    "exemptions": _exemptions,
    "elevation": _elevation,
    "temporary": _temporary,
}
