"""pam_faillock: its settings, and what the tally of an account's failures means.

A tally holds records of 64 bytes: source (52 bytes), reserved, status (bit 1: the failure counts) and
time (seconds). With L the newest valid record, an account is locked if at least `deny` valid records
lie less than `fail_interval` before L, up to and including second L + `unlock_time`; `unlock_time` 0 is
until somebody resets it, `deny` 0 never locks. Measured row by row with a stopped clock.
"""

from __future__ import annotations

import re
import struct
from dataclasses import dataclass, replace
from datetime import UTC, datetime

from keymallet.sources.host.files import HostFiles, text_lines
from keymallet.sources.host.pam import Module, Stacks

RECORD = struct.Struct("<52x2xHQ")
"""Of a record: its status, and seconds since 1970."""
FOLDERS = ("var/run/faillock", "run/faillock")
_VALID = 1
_LAST = 253_402_300_799  # 9999-12-31T23:59:59Z
_SETTING = re.compile(r"(\w+)\s*(?:=\s*(.*?))?\s*$")
_NUMBERS = ("deny", "fail_interval", "unlock_time", "root_unlock_time")


@dataclass(frozen=True)
class Policy:
    """When failures lock. Lengths of time in seconds; 0 for `unlock_time`: until somebody unlocks it."""

    deny: int = 3
    fail_interval: int = 900
    unlock_time: int = 600
    root_unlock_time: int | None = None
    even_deny_root: bool = False
    admin_group: str = ""
    folder: str = ""

    def unlock_after(self, root: bool) -> int:
        """Seconds a lock lasts; 0: until somebody unlocks it."""
        return self.root_unlock_time if root and self.root_unlock_time is not None else self.unlock_time


@dataclass(frozen=True)
class FailureTally:
    """What the failures of an account come to, as of the instant read."""

    locked: bool = False
    since: datetime | None = None
    until: datetime | None = None
    failures: int = 0
    newest: datetime | None = None


def read_policy(files: HostFiles, stacks: Stacks | None) -> Policy | None:
    """The policy in force; None where the PAM files are there and do not use pam_faillock.

    Without the PAM files, the settings file alone is taken: tallies are written only where it is in use.
    """
    lines: list[Module] = []
    if stacks is not None:
        lines = [setting for setting in stacks.modules("auth", "pam_faillock") if not setting.has("authsucc")]
        if not lines:
            return None
    conf = next(
        (value for setting in lines if (value := setting.value("conf"))), "etc/security/faillock.conf"
    )
    policy = _from_file(files, conf, Policy())
    for line in lines:
        policy = _with_arguments(policy, line.arguments)
    return policy


def _from_file(files: HostFiles, path: str, policy: Policy) -> Policy:
    for number, line in text_lines(files.bytes_of(path) or b""):
        text = line.partition("#")[0].strip()
        if not text:
            continue
        match = _SETTING.match(text)
        if match is None or not _is_setting(match[1], match[2]):
            files.remark(f"{files.shown(path)} line {number}: not understood, passed over as PAM does")
            continue
        policy = _with(policy, match[1], match[2])
    return policy


def _with_arguments(policy: Policy, arguments: tuple[str, ...]) -> Policy:
    for argument in arguments:
        name, equals, value = argument.partition("=")
        if _is_setting(name, value if equals else None):
            policy = _with(policy, name, value if equals else None)
    return policy


def _is_setting(name: str, value: str | None) -> bool:
    if name in _NUMBERS:
        return value is not None and (_number(value) is not None)
    if name in ("dir", "admin_group"):
        return bool(value)
    known = ("even_deny_root", "audit", "silent", "no_log_info", "local_users_only", "nodelay", "conf")
    return name in (*known, "preauth", "authfail", "authsucc")


def _with(policy: Policy, name: str, value: str | None) -> Policy:
    if name in _NUMBERS:
        return replace(policy, **{name: _number(value or "")})  # type: ignore[arg-type]
    if name == "even_deny_root":
        return replace(policy, even_deny_root=True)
    if name == "admin_group":
        return replace(policy, admin_group=value or "")
    return replace(policy, folder=value or "") if name == "dir" else policy


def _number(text: str) -> int | None:
    if text == "never":
        return 0
    return int(text) if text.isascii() and text.isdigit() and len(text) < 11 else None


def tally_folder(files: HostFiles, policy: Policy) -> str | None:
    """Where the tallies stand; None if they were not brought along."""
    folders = (policy.folder,) if policy.folder else FOLDERS
    return next((folder for folder in folders if files.is_folder(folder)), None)


def read_tally(data: bytes, policy: Policy, *, root: bool, at: datetime) -> FailureTally:
    """What a tally means at the instant `at`. A record that is cut off at the end does not count."""
    whole = data[: len(data) // RECORD.size * RECORD.size]
    times = sorted(float(time) for status, time in RECORD.iter_unpack(whole) if status & _VALID)
    if not times:
        return FailureTally()
    newest, now = times[-1], at.timestamp()
    counting = sum(newest - time < policy.fail_interval for time in times)
    fresh = sum(now - time < policy.fail_interval for time in times)
    last = _instant(newest)
    exempt = root and not policy.even_deny_root
    if exempt or policy.deny == 0 or counting < policy.deny:
        return FailureTally(failures=fresh, newest=last)
    lasts = policy.unlock_after(root)
    # Whole seconds: the lock holds through the second in which it ends.
    until = None if lasts == 0 else _instant(newest + lasts + 1)
    over = lasts != 0 and now >= newest + lasts + 1
    return FailureTally(True, last, until, fresh if over else counting, last)


def _instant(seconds: float) -> datetime | None:
    return datetime.fromtimestamp(seconds, UTC) if 0 < seconds <= _LAST else None
