"""The hours of the week in which an account may be used, and sign-ins outside them."""

from __future__ import annotations

import re

import polars as pl

from keymallet.core.facts.declaration import ACCOUNT, SIGN_IN
from keymallet.core.facts.evidence import ACCOUNT_ROW, with_unread
from keymallet.core.linking.linked import LinkedReadings, LinkingRules

_DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
_STRETCH = re.compile(
    r"(?:(?P<first>[a-z]{3})[a-z]*(?:-(?P<last>[a-z]{3})[a-z]*)? +)?(?P<begin>\d\d?:\d\d)-(?P<end>\d\d?:\d\d)"
)
_BETWEEN = ", "
_WEEK = 7 * 24 * 60
"""Minutes."""


def mark_hours(linked: LinkedReadings, rules: LinkingRules) -> LinkedReadings:
    """Enter of each sign-in whether it lies outside the hours of its account, by the estate's clock.

    Of an account without such hours none is outside them; of hours that cannot be read, it is not known.
    """
    events, accounts = linked.frame(SIGN_IN), linked.accounts
    suppliers = linked.suppliers(ACCOUNT, "allowed-hours")
    if not suppliers or "allowed-hours" not in accounts.columns:
        return linked
    if events is None or "at" not in events.columns:
        return linked
    local = events["at"].dt.convert_time_zone(rules.clock.key)
    hour = (local.dt.weekday().cast(pl.Int32) - 1) * 24 + local.dt.hour().cast(pl.Int32)
    asked = pl.DataFrame(
        {
            "hours": accounts["allowed-hours"].list.join(_BETWEEN).gather(events[ACCOUNT_ROW]),
            "minute": hour * 60 + local.dt.minute().cast(pl.Int32),
            "of": events[ACCOUNT_ROW],
        }
    ).with_row_index("row")
    read = {text: read_hours(text.split(_BETWEEN)) for text in asked["hours"].drop_nulls().unique() if text}
    stretches = [(text, *each) for text, found in read.items() for each in found or ()]
    schema = {"hours": pl.String, "begin": pl.Int32, "end": pl.Int32}
    within = asked.join(pl.DataFrame(stretches, schema=schema, orient="row"), on="hours").filter(
        (pl.col("minute") >= pl.col("begin")) & (pl.col("minute") < pl.col("end"))
    )["row"]
    unread = pl.Series([text for text, found in read.items() if found is None], dtype=pl.String)
    outside = asked.select(
        pl.when(pl.col("of").is_null() | pl.col("minute").is_null() | pl.col("hours").is_in(unread.implode()))
        .then(None)
        .when(pl.col("hours").is_null() | (pl.col("hours") == ""))
        .then(False)
        .otherwise(~pl.col("row").is_in(within.implode()))
        .alias("outside-hours")
    ).to_series()
    marked = events.with_columns(outside)
    untold = outside.is_null()
    marked = with_unread(marked, {"outside-hours": untold} if untold.any() else {})
    how = "the hours of its account, by the estate's clock"
    return linked.with_frame(SIGN_IN, marked).supplying(suppliers, SIGN_IN, {"outside-hours": how})


def read_hours(written: list[str]) -> list[tuple[int, int]] | None:
    """The minutes of the week from Monday midnight, as half-open stretches; None where one cannot be read.

    `mon-fri 07:00-19:00`, `sat 8:00-12:00`, `22:00-06:00` (every day, over midnight); names of days in
    English, three letters or whole.
    """
    stretches: list[tuple[int, int]] = []
    for text in written:
        match = _STRETCH.fullmatch(text.strip().lower())
        if match is None:
            return None
        begin, end = _minutes(match["begin"]), _minutes(match["end"])
        days = _days(match["first"], match["last"])
        if begin is None or end is None or not days:
            return None
        for day in days:
            last = end if end > begin else end + 1440
            first, after = day * 1440 + begin, day * 1440 + last
            # What goes on past Sunday midnight goes on at the beginning of the week.
            stretches.append((first, min(after, _WEEK)))
            if after > _WEEK:
                stretches.append((0, after - _WEEK))
    return stretches


def _minutes(text: str) -> int | None:
    hour, minute = map(int, text.split(":"))
    return hour * 60 + minute if (hour < 24 and minute < 60) or (hour, minute) == (24, 0) else None


def _days(first: str | None, last: str | None) -> list[int]:
    """The days from one to another, over Sunday if need be; every day where none is named, none if wrong."""
    if first is None:
        return list(range(7))
    if first not in _DAYS or (last is not None and last not in _DAYS):
        return []
    begin = _DAYS.index(first)
    number = 1 if last is None else (_DAYS.index(last) - begin) % 7 + 1
    return [(begin + step) % 7 for step in range(number)]
