"""`read = "host"`: the account files of Linux hosts, as they stand.

A folder is one host's root (it holds `etc/passwd`), or holds one such folder for each host. Each
host is a source of its own, called `source/host`. What a file would have told is not supplied
where the file is not there. No hash leaves this module.
"""

from __future__ import annotations

import os
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from fnmatch import fnmatchcase
from pathlib import Path
from typing import Any

import polars as pl

from keymallet.core import facts
from keymallet.core.evidence import data_type
from keymallet.core.problems import fail
from keymallet.core.reading import Reading, Refusal
from keymallet.sources.host_lines import (
    DroppedError,
    GroupEntry,
    PasswdEntry,
    ShadowEntry,
    comment_count,
    parse_group,
    parse_passwd,
    parse_shadow,
    records,
    scheme_of,
)
from keymallet.sources.request import Request
from keymallet.sources.sections import HostSection

_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
_LAST_DAY = 2_932_896  # 9999-12-31
_NEVER = 10_000  # days: the shadow tools' own mark for a password that never expires

_FROM_PASSWD = {
    "name": "field 1",
    "display": "field 5",
    "stable-id": "field 3, the user id",
    "kind": "the user id and the estate's kinds",
    "interactive": "field 7, the shell",
}
_FROM_SHADOW = {
    "enabled": "field 8: 0 or 1 bars the account",
    "ends": "field 8",
    "has-password": "field 2",
    "password-empty": "field 2",
    "password-locked": "field 2",
    "password-scheme": "field 2",
    "password-changed": "field 3",
    "password-must-change": "field 3",
    "password-never-expires": "field 5",
    "password-expires": "fields 3 and 5",
    "locked": "field 2: only a lock put there by an administrator",
    "lock-cause": "field 2",
}


def read(section: HostSection, request: Request) -> list[Reading]:
    """Read every host below the folder. Raises KeymalletError if there is none."""
    root = request.folder / section.folder
    if not root.is_dir():
        raise fail("there is no such folder", file=section.folder, hint="folder = … in the estate file")
    if (root / "etc" / "passwd").is_file():
        return [_Host(section, request, request.name, section.folder).reading()]
    folders = sorted(entry.name for entry in root.iterdir() if entry.is_dir())
    hosts = [name for name in folders if (root / name / "etc" / "passwd").is_file()]
    if not hosts:
        hint = "a host's folder holds etc/passwd, or one folder for each host"
        raise fail("no host stands here", file=section.folder, hint=hint)
    readings = [
        _Host(section, request, f"{request.name}/{name}", f"{section.folder}/{name}").reading()
        for name in hosts
    ]
    left_out = [name for name in folders if name not in hosts]
    if left_out:
        readings[0].remarks.append(f"{section.folder}: no etc/passwd in {', '.join(left_out[:8])}")
    return readings


@dataclass
class _Host:
    """The reading of one host."""

    section: HostSection
    request: Request
    source: str
    folder: str
    result: Reading = field(init=False)

    def __post_init__(self) -> None:
        self.result = Reading(self.source)

    def reading(self) -> Reading:
        """All of it."""
        intake = self.result.table_intake("account")
        accounts = self._named(
            "etc/passwd", parse_passwd, "a second line for this name: the first one counts"
        )
        shadow = self._named("etc/shadow", parse_shadow, "a second line for this name: the first one counts")
        groups = self._named("etc/group", parse_group, "a second line for this group")
        first_of_range = self._first_person_uid()
        rows = []
        for entry in (accounts or {}).values():
            row = self._from_passwd(entry, first_of_range)
            if shadow is not None:
                row.update(_from_shadow(entry, shadow.get(entry.name), self.section.pam))
            if groups is not None:
                row["groups"] = _groups_of(entry, groups)
            rows.append(row)
        intake.read = len(rows)
        self._supply(shadow is not None, groups is not None)
        supplied = self.result.supply["account"]
        schema = {
            column.name: data_type(column) for column in facts.ACCOUNT.columns if column.name in supplied
        }
        self.result.tables["account"] = pl.DataFrame(rows, schema=schema)
        self._remarks(accounts or {}, shadow, groups)
        return self.result

    def _bytes(self, path: str) -> bytes | None:
        """A file of the host; None if it is not there or not to be read."""
        whole = self.request.folder / self.folder / path
        if not whole.exists():
            self.result.remarks.append(f"{self.folder}/{path} is not there: what it would tell is unknown")
            return None
        if not os.access(whole, os.R_OK):
            self.result.remarks.append(f"{self.folder}/{path} may not be read: what it would tell is unknown")
            return None
        return self.request.bytes_of(f"{self.folder}/{path}", self.result)

    def _named(self, path: str, parse: Any, repeated: str) -> dict[str, Any] | None:
        """Entries of a file by name. Lines the system drops are refused, with their number."""
        data = self._bytes(path)
        if data is None:
            return None
        shown = f"{self.folder}/{path}"
        intake = self.result.table_intake("account")
        found: dict[str, Any] = {}
        for line in records(data):
            try:
                entry = parse(line.text)
                if entry.name in found:
                    raise DroppedError(repeated)
                found[entry.name] = entry
            except DroppedError as dropped:
                intake.refuse(Refusal(shown, line.number, str(dropped)))
        comments = comment_count(data)
        if comments:
            self.result.remarks.append(f"{shown}: {comments} comment lines passed over")
        return found

    def _first_person_uid(self) -> int:
        """UID_MIN of login.defs, else 1000: accounts below are the system's own."""
        path = Path("etc/login.defs")
        if not (self.request.folder / self.folder / path).is_file():
            return 1000
        for line in records(self._bytes(str(path)) or b""):
            words = line.text.split()
            if words[0] == "UID_MIN" and len(words) > 1 and words[1].isdigit():
                return int(words[1])
        return 1000

    def _from_passwd(self, entry: PasswdEntry, first_of_range: int) -> dict[str, Any]:
        kind = next(
            (kind for pattern, kind in self.section.kinds.items() if fnmatchcase(entry.name, pattern)), None
        )
        if entry.uid < first_of_range or entry.uid == 65534:
            kind = "system"
        return {
            "name": entry.name,
            "display": entry.display or None,
            "stable-id": str(entry.uid),
            "kind": kind,
            "interactive": entry.is_interactive,
        }

    def _supply(self, shadow: bool, groups: bool) -> None:
        supply = {name: f"{self.folder}/etc/passwd, {where}" for name, where in _FROM_PASSWD.items()}
        if shadow:
            supply |= {name: f"{self.folder}/etc/shadow, {where}" for name, where in _FROM_SHADOW.items()}
        if groups:
            supply["groups"] = f"{self.folder}/etc/group and the primary group"
        self.result.supply["account"] = supply

    def _remarks(
        self,
        accounts: dict[str, PasswdEntry],
        shadow: dict[str, ShadowEntry] | None,
        groups: dict[str, GroupEntry] | None,
    ) -> None:
        remarks = self.result.remarks
        if shadow is not None:
            remarks.append(f"{self.folder}: password ageing judged by the rule of PAM {self.section.pam}")
            strangers = [name for name in shadow if name not in accounts]
            if strangers:
                remarks.append(
                    f"{self.folder}/etc/shadow: no account in passwd for {', '.join(strangers[:8])}"
                )
            bare = [
                entry.name
                for entry in accounts.values()
                if entry.password == "x" and entry.name not in shadow
            ]
            if bare:
                remarks.append(
                    f"{self.folder}/etc/shadow: no line for {', '.join(bare[:8])}; no password works"
                )
        gshadow = self.request.folder / self.folder / "etc/gshadow"
        if groups is not None and gshadow.is_file():
            self._compare_members(groups)
        unclear = sum(row is None for row in self.result.tables["account"]["kind"])
        if unclear:
            hint = 'kinds = { "svc-*" = "service", "*" = "person" } in the estate would tell'
            remarks.append(f"{self.folder}: {unclear} accounts of unknown kind; {hint}")

    def _compare_members(self, groups: dict[str, GroupEntry]) -> None:
        """gshadow repeats the members of each group; where it differs, somebody edited one by hand."""
        differing = []
        for line in records(self._bytes("etc/gshadow") or b""):
            fields = line.text.split(":")
            members = {name for name in fields[3].split(",") if name} if len(fields) == 4 else set()
            if len(fields) == 4 and fields[0] in groups and members != set(groups[fields[0]].members):
                differing.append(fields[0])
        if differing:
            shown = ", ".join(differing[:8])
            self.result.remarks.append(f"{self.folder}/etc/gshadow: other members than in group for {shown}")


def _groups_of(entry: PasswdEntry, groups: dict[str, GroupEntry]) -> list[str]:
    primary = [group.name for group in groups.values() if group.gid == entry.gid]
    others = [group.name for group in groups.values() if entry.name in group.members]
    return list(dict.fromkeys(primary + others))


def _from_shadow(entry: PasswdEntry, line: ShadowEntry | None, pam: str) -> dict[str, Any]:
    """Password and ageing, by the system's own rule."""
    if entry.password != "x":
        # A password in passwd itself: the system uses it and ignores all ageing in shadow.
        return _password(entry.password) | {
            "enabled": True,
            "password-never-expires": True,
            "password-must-change": False,
        }
    if line is None:
        return _password("*") | {"enabled": True}
    ageing: dict[str, Any] = {
        # 0 and 1 are how administrators bar an account; they are no dates.
        "enabled": line.expires not in (0, 1),
        "ends": _day(line.expires) if line.expires not in (0, 1) else None,
        "password-changed": _day(line.last_change) if line.last_change else None,
        "password-must-change": line.last_change == 0,
        "password-never-expires": line.maximum is None or line.maximum >= _NEVER,
        "password-expires": _password_expires(line, pam),
    }
    if line.last_change is None and line.maximum is not None:
        # Without a day of change, PAM 1.5 asks for a new password and PAM 1.7 does no ageing.
        ageing |= {"password-must-change": pam == "1.5", "password-never-expires": pam != "1.5"}
    return _password(line.password) | ageing


def _password_expires(line: ShadowEntry, pam: str) -> datetime | None:
    """First instant at which a new password is asked for: age > max in PAM 1.5, age >= max in 1.7."""
    if not line.last_change or line.maximum is None or line.maximum >= _NEVER:
        return None
    return _day(line.last_change + line.maximum + (1 if pam == "1.5" else 0))


def _day(days: int | None) -> datetime | None:
    """Midnight UTC of a day: the system counts days in UTC, whatever its clock."""
    if days is None or not 0 < days <= _LAST_DAY:
        return None
    return _EPOCH + timedelta(days=days)


def _password(text: str) -> dict[str, Any]:
    """What a password field tells, without the hash."""
    scheme = scheme_of(text.lstrip("!"))
    locked = text.startswith("!") and scheme is not None
    return {
        "has-password": scheme is not None or text == "",
        "password-empty": text == "",
        "password-locked": text.startswith(("!", "*")),
        "password-scheme": scheme,
        # Locks after failed sign-ins stand elsewhere: without a lock here, it is not known.
        "locked": True if locked else None,
        "lock-cause": "administrator" if locked else None,
    }
