"""What shadow's ageing fields mean, by the rule of the host's own PAM.

Days are counted in UTC, whatever the host's clock. Measured on two releases with `unix_chkpwd`:
PAM 1.5 asks for a new password when its age is *more* than the maximum, PAM 1.7 when it *is* the
maximum; the same holds for the days of grace (`inactive`) after that, at whose end the account is
barred altogether. An account is over at the first second of its expiry day. PAM looks at the expiry
day first, then at a day of change of 0 (which beats the grace), then at the grace.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from typing import Any, Literal

Pam = Literal["1.5", "1.7"]

_NO_SESSION = {"nologin", "false", "true", "sync", "halt", "shutdown"}

_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
_LAST_DAY = 2_932_896  # 9999-12-31
_NEVER = 10_000  # days: the shadow tools' own mark for a password that never expires
_FAR = 47_482  # 2100-01-01: an end beyond it, made by that mark, is no end anybody set


@dataclass(frozen=True, slots=True)
class ShadowEntry:
    """Password and ageing of an account; days count from 1970-01-01 UTC. None: empty, or the number -1."""

    name: str
    password: str
    last_change: int | None
    maximum: int | None
    inactive: int | None
    expires: int | None


def opens_a_session(shell: str) -> bool:
    """Whether a login shell opens a session. An empty one is /bin/sh."""
    return shell.rpartition("/")[2] not in _NO_SESSION and not shell.endswith("\r")


def of_shadow(line: ShadowEntry, pam: Pam, today: int) -> dict[str, Any]:
    """The facts of a shadow line's day fields. `today` is the day it is read on, counted from 1970."""
    if pam == "1.7":
        # This one takes every negative number for none.
        line = replace(
            line,
            last_change=_not_negative(line.last_change),
            maximum=_not_negative(line.maximum),
            inactive=_not_negative(line.inactive),
            expires=_not_negative(line.expires),
        )
    late = 1 if pam == "1.5" else 0
    # Without a day of change PAM 1.5 counts from the day before 1970; PAM 1.7 does no ageing at all.
    changed = -1 if line.last_change is None and pam == "1.5" else line.last_change
    expires = lapses = None
    if changed is not None and changed != 0 and line.maximum is not None:
        # Until the day of change has come, nothing is counted.
        expires = max(changed + line.maximum + late, changed)
        if line.inactive is not None:
            after = max(line.maximum, line.inactive, line.maximum + line.inactive)
            lapses = max(changed + after + late, changed)
    far = expires is None or expires >= _FAR
    marked_never = line.maximum is not None and line.maximum >= _NEVER and far
    undated = line.last_change is None or line.last_change < 0
    overdue = undated and expires is not None and expires <= today
    # 0 and 1 are how administrators bar an account, and PAM 1.5 is barred by a negative one: no dates.
    barred = line.expires is not None and line.expires <= 1
    return {
        "enabled": not barred,
        "ends": None if barred else day(line.expires),
        "password-changed": day(line.last_change),
        "password-must-change": line.last_change == 0 or overdue,
        "password-never-expires": line.maximum is None or changed is None or marked_never,
        "password-expires": None if marked_never else _at_least_first(expires),
        "password-lapses": None if marked_never else _at_least_first(lapses),
    }


def _not_negative(number: int | None) -> int | None:
    return None if number is not None and number < 0 else number


def day(days: int | None) -> datetime | None:
    """Midnight UTC at which a day begins; None for none, for 1970-01-01 itself and beyond 9999."""
    if days is None or not 0 < days <= _LAST_DAY:
        return None
    return _EPOCH + timedelta(days=days)


def _at_least_first(days: int | None) -> datetime | None:
    return day(days if days is None else max(days, 1))


IGNORED = {
    "enabled": True,
    "password-never-expires": True,
    "password-must-change": False,
}
"""The facts of an account whose password stands in passwd: the system ignores its ageing."""
