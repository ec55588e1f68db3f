"""Spans and instants as people write them: `90d`, `8h`, `2026-11-24`, `2026-11-24T09:00Z`."""

from __future__ import annotations

import re
from datetime import datetime, timedelta
from fractions import Fraction

_UNITS = {
    "us": 1,
    "ms": 1_000,
    "s": 1_000_000,
    "min": 60_000_000,
    "h": 3_600_000_000,
    "d": 86_400_000_000,
    "w": 604_800_000_000,
}
_SPAN = re.compile(r"(\d+(?:\.\d+)?)(us|ms|s|min|h|d|w)", re.ASCII)
_INSTANT = re.compile(r"\d{4}-\d{2}-\d{2}(T\d{2}:\d{2}(:\d{2}(\.\d{1,6})?)?(Z|[+-]\d{2}:\d{2})?)?", re.ASCII)
LONGEST_SPAN = timedelta(days=365_000)


def parse_span(text: str) -> timedelta | None:
    """Read `90d`, `8h`, `30min`, `2w`, `45s` exactly; None if it is not written so or over 365,000 days."""
    match = _SPAN.fullmatch(text)
    if match is None:
        return None
    microseconds = Fraction(match[1]) * _UNITS[match[2]]
    if microseconds.denominator != 1 or microseconds > LONGEST_SPAN // timedelta(microseconds=1):
        return None
    return timedelta(microseconds=int(microseconds))


def parse_instant(text: str) -> datetime | None:
    """Read `2026-11-24` or `2026-11-24T09:00[:00][Z|+01:00]`; without zone it stays naive.

    None if it is not written so, is no day of the calendar, or lies outside 1970 to 9998.
    """
    if _INSTANT.fullmatch(text) is None:
        return None
    try:
        instant = datetime.fromisoformat(text)
    except ValueError:
        return None
    return instant if is_in_range(instant) else None


def is_in_range(instant: datetime) -> bool:
    """Whether the instant lies in the years 1970 to 9998: those hold in every zone."""
    return 1970 <= instant.year <= 9998


def span_text(span: timedelta) -> str:
    """Write a length of time with one unit: `180 d`, `8 h`, `30 min`, `45 s`."""
    microseconds = abs(span) // timedelta(microseconds=1)
    sign = "-" if span < timedelta(0) else ""
    for unit in ("d", "h", "min", "s", "ms"):
        if microseconds >= _UNITS[unit] and microseconds % _UNITS[unit] == 0:
            return f"{sign}{microseconds // _UNITS[unit]} {unit}"
    return f"{sign}{microseconds} us" if microseconds else "0 s"
