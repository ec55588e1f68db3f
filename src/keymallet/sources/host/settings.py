"""The host's own settings: password ageing, password quality, lockout, and what its SSH server takes.

A value is known only where its file is there; where the file is there and says nothing, the value is
the module's own default, or none where there is no such bound.
"""

from __future__ import annotations

import re
from datetime import timedelta
from typing import Any

from keymallet.sources.host.faillock import Policy
from keymallet.sources.host.files import HostFiles, text_lines
from keymallet.sources.host.pam import Module, Stacks
from keymallet.sources.host.sshd import SshServer
from keymallet.sources.host.sshd_doors import anybody_by_password

NAME = "host rules"
_NEVER = 10_000  # days
_DAYS = {"max-age": "PASS_MAX_DAYS", "min-age": "PASS_MIN_DAYS", "warn-before": "PASS_WARN_AGE"}
_QUALITY = "etc/security/pwquality.conf"
_UNIX_MINIMUM = 6  # characters: what pam_unix asks for by itself


def read_login_defs(files: HostFiles) -> dict[str, str] | None:
    """The settings of login.defs; None where it is not there."""
    data = files.bytes_of("etc/login.defs")
    if data is None:
        return None
    settings: dict[str, str] = {}
    for _, line in text_lines(data):
        words = line.split("#")[0].split(None, 1)
        if len(words) == 2:
            settings[words[0]] = words[1].strip().strip('"')
    return settings


def settings_of(
    files: HostFiles,
    stacks: Stacks | None,
    defs: dict[str, str] | None,
    locks: Policy | None,
    server: SshServer | None,
) -> tuple[dict[str, Any], dict[str, str]]:
    """The one row of the host's settings, and where each of its values stands."""
    row: dict[str, Any] = {"setting": NAME, "applies-to": ["everyone"]}
    supply = {"setting": "the host", "applies-to": "the host"}

    def tell(where: str, **values: Any) -> None:
        for name, value in values.items():
            row[name.replace("_", "-")] = value
            supply[name.replace("_", "-")] = f"{files.folder}/{where}"

    if defs is not None:
        for column, name in _DAYS.items():
            tell(f"etc/login.defs, {name}", **{column: _days(defs.get(name, ""))})
    quality = _quality(files, stacks)
    if quality is not None:
        tell(quality[2], min_length=quality[0], classes=quality[1])
    if stacks is not None:
        remembered = [
            _number(line.value("remember"))
            for name in ("pam_pwhistory", "pam_unix")
            for line in stacks.modules("password", name, ("passwd",))
        ]
        known = [number for number in remembered if number is not None]
        tell("etc/pam.d/passwd, remember", history=max(known, default=0))
    if locks is not None:
        never = locks.unlock_time == 0
        tell(
            "etc/security/faillock.conf and etc/pam.d",
            lock_after=locks.deny or None,
            lock_for=None if never or not locks.deny else timedelta(seconds=locks.unlock_time),
            count_within=timedelta(seconds=locks.fail_interval),
        )
    elif stacks is not None:
        tell("etc/pam.d: nothing there locks after failures", lock_after=None, lock_for=None)
    if server is not None:
        tell("etc/ssh/sshd_config", remote_password=anybody_by_password(server), remote_root=server.root)
    return row, supply


def _quality(files: HostFiles, stacks: Stacks | None) -> tuple[int | None, int | None, str] | None:
    """Shortest length and classes asked for, as pam_pwquality works them out from its file and arguments."""
    lines: list[Module] = []
    if stacks is not None:
        lines = stacks.modules("password", "pam_pwquality", ("passwd",))
        if not lines:
            unix = stacks.modules("password", "pam_unix", ("passwd",))
            least = next(
                (number for setting in unix if (number := _number(setting.value("minlen")))), _UNIX_MINIMUM
            )
            return least, None, "etc/pam.d/passwd, pam_unix minlen"
    elif not files.is_there(_QUALITY):
        return None
    values = {"minlen": 8, "minclass": 0, "dcredit": 0, "ucredit": 0, "lcredit": 0, "ocredit": 0}
    extra = [f"{_QUALITY}.d/{name}" for name in files.names(f"{_QUALITY}.d") if name.endswith(".conf")]
    for path in (_QUALITY, *extra):
        for number, line in text_lines(files.bytes_of(path) or b""):
            text = line.partition("#")[0].strip()
            if text and not _assign(values, text):
                files.remark(f"{files.shown(path)} line {number}: not understood, passed over")
    for setting in lines:
        for argument in setting.arguments:
            _assign(values, argument)
    given = [values[name] for name in ("dcredit", "ucredit", "lcredit", "ocredit")]
    # A positive credit lets a password be that much shorter; a negative one demands such characters.
    least = max(values["minlen"] - sum(setting for setting in given if setting > 0), 6)
    return least, max(values["minclass"], sum(setting < 0 for setting in given)), f"{_QUALITY} and etc/pam.d"


def _assign(values: dict[str, int], text: str) -> bool:
    match = re.fullmatch(r"(\w+)\s*(?:=\s*(.*))?", text)
    if match is None:
        return False
    if match[1] not in values:
        return True
    if not re.fullmatch(r"-?\d{1,6}", match[2] or "", re.ASCII):
        return False
    values[match[1]] = int(match[2])
    return True


def _number(text: str | None) -> int | None:
    return int(text) if text and text.isascii() and text.isdigit() and len(text) < 9 else None


def _days(text: str) -> timedelta | None:
    """A number of days; none where there is no bound."""
    number = _number(text)
    return timedelta(days=number) if number is not None and number < _NEVER else None
