"""Clocks: which IANA time zones there are, and instants that are read in one."""

from __future__ import annotations

import re
from datetime import UTC, date, datetime, time
from typing import Any
from zoneinfo import ZoneInfo

from keymallet.core.language.literals import is_in_range, parse_instant

_NO_REAL_ZONE = re.compile(r"posix/|right/|posixrules$|localtime$|Factory$")
AN_INSTANT = "like 2026-11-24 or 2026-11-24T09:00Z"


def is_zone(name: str) -> bool:
    """Whether it is the name of an IANA time zone; names that stand for this machine's own are none."""
    if _NO_REAL_ZONE.match(name):
        return False
    try:
        ZoneInfo(name)
    except (KeyError, ValueError, OSError):
        return False
    return True


def instant_in(text: str, clock: ZoneInfo) -> datetime | None:
    """An instant as people write it, in UTC; one without zone is in the clock. None if it is none."""
    parsed = parse_instant(text)
    return parsed and (parsed if parsed.tzinfo else parsed.replace(tzinfo=clock)).astimezone(UTC)


def instant_of(value: Any, clock: ZoneInfo) -> datetime | None:
    """A date or instant, of TOML or as text, in UTC; a plain date is midnight of the clock. None if none."""
    instant: datetime | None = None
    if isinstance(value, datetime):
        instant = value if value.tzinfo else value.replace(tzinfo=clock)
    elif isinstance(value, date):
        instant = datetime.combine(value, time(), clock)
    elif isinstance(value, str):
        instant = instant_in(value, clock)
    return instant.astimezone(UTC) if instant is not None and is_in_range(instant) else None
