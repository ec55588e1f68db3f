"""What the password field, the ageing fields and the tally of failures say of an account together."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

from keymallet.sources.host.faillock import FailureTally
from keymallet.sources.host.lines import PasswdEntry, stored_form
from keymallet.sources.shared import ageing
from keymallet.sources.shared.ageing import Pam, ShadowEntry
from keymallet.sources.shared.digests import keyed

_SECONDS_A_DAY = 86_400


def of_account(entry: PasswdEntry, line: ShadowEntry | None, pam: Pam, at: datetime) -> dict[str, Any]:
    """Password and ageing of an account, by the system's own rule."""
    if entry.password != "x":
        # A password in passwd itself: the system uses it and ignores all ageing in shadow.
        return _field(entry.password) | ageing.IGNORED
    if line is None:
        return _field("*") | {"enabled": True}
    facts = _field(line.password) | ageing.of_shadow(line, pam, int(at.timestamp()) // _SECONDS_A_DAY)
    if facts["locked"] is None and facts["password-lapses"] is not None and facts["password-lapses"] <= at:
        facts["lock-cause"] = "inactivity"
    return facts


def without_pam(row: dict[str, Any], line: ShadowEntry | None) -> dict[str, Any]:
    """What changes where sshd judges by itself: the expiry day still counts, and inactivity is not looked at.

    PAM, which the console asks, is stricter by both: the account is over once neither lets it in.
    """
    ends = None if line is None or (line.expires or 0) <= 1 else ageing.day(line.expires)
    later = {"ends": ends + timedelta(days=1)} if ends is not None and "ends" in row else {}
    lapsed = row.get("lock-cause") == "inactivity"
    return later | {"password-lapses": None} | ({"lock-cause": None} if lapsed else {})


def is_barred_without_pam(row: dict[str, Any], entry: PasswdEntry, line: ShadowEntry | None) -> bool:
    """Whether sshd, judging by itself, refuses every proof for a `!` that bars no password: there is none.

    With a password behind it, the `!` is a lock, which is told as one.
    """
    stored = entry.password if line is None else line.password
    return stored.startswith("!") and not row.get("locked")


def has_password_without_pam(entry: PasswdEntry, line: ShadowEntry | None) -> bool:
    """Whether sshd finds a password by itself: it takes shadow's, even for who has one in passwd."""
    return entry.password == "x" or line is None or _field(line.password)["has-password"] is not False


def has_no_line(entry: PasswdEntry, line: ShadowEntry | None, shadow_is_there: bool) -> bool:
    """Whether passwd points to a line of shadow that is not there."""
    return shadow_is_there and entry.password == "x" and line is None


def with_tally(row: dict[str, Any], tally: FailureTally) -> dict[str, Any]:
    """The lock, once the tally of failures is known: an administrator's comes before one by failures."""
    lock: dict[str, Any] = {"failed-attempts": tally.failures, "last-failed": tally.newest}
    if row.get("locked"):
        return lock
    lock["locked"] = tally.locked
    if tally.locked:
        lock |= {"lock-cause": "failed-attempts", "locked-since": tally.since, "locked-until": tally.until}
    return lock


def lock_stops(row: dict[str, Any], uses_pam: bool) -> str:
    """What a lock stops. Both kinds bar the password alone, unless sshd looks at the `!` itself."""
    by_administrator = row.get("lock-cause") == "administrator"
    return "everything" if by_administrator and not uses_pam else "password"


def _field(text: str) -> dict[str, Any]:
    """What a password field tells, without the hash."""
    matches, scheme = stored_form(text.lstrip("!"))
    locked = text.startswith("!") and matches is not False
    return {
        "has-password": True if text == "" else matches,
        "password-empty": text == "",
        "password-locked": text.startswith(("!", "*")),
        "password-scheme": scheme,
        # With its salt: the same twice was copied from one line to the other.
        "password-digest": keyed(text.lstrip("!")) if matches is not False else None,
        # Locks after failed sign-ins stand elsewhere: without a lock here, it is not known.
        "locked": True if locked else None,
        "lock-cause": "administrator" if locked else None,
    }
