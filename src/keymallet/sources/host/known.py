"""What the files of a host say together, and the facts of each account that follow from it."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime
from functools import cached_property
from typing import Any

from keymallet.core.facts.evidence import UNREAD
from keymallet.sources.host import passwords
from keymallet.sources.host.faillock import FailureTally, Policy
from keymallet.sources.host.groups import HostGroups
from keymallet.sources.host.lines import GroupEntry, PasswdEntry
from keymallet.sources.host.pam import Stacks
from keymallet.sources.host.sign_ins import SignIns
from keymallet.sources.host.sshd import SshServer
from keymallet.sources.host.sshd_doors import Door, doors, ways_of
from keymallet.sources.shared.ageing import Pam, ShadowEntry

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
    "password-digest": "field 2",
    "password-changed": "field 3",
    "password-must-change": "field 3",
    "password-never-expires": "field 5",
    "password-expires": "fields 3 and 5",
    "password-lapses": "fields 3, 5 and 7",
    "locked": "field 2",
    "lock-cause": "field 2",
}
_FROM_TALLIES = ("locked-since", "locked-until", "failed-attempts", "last-failed")


@dataclass
class Known:
    """What a host's files say beyond passwd; None where a file is not there."""

    pam: Pam
    stacks: Stacks | None
    defs: dict[str, str] | None
    server: SshServer | None
    sign_ins: SignIns
    shadow: dict[str, ShadowEntry] | None
    groups: dict[str, GroupEntry] | None
    locks: Policy | None = None
    tallies: dict[str, FailureTally] | None = None
    _doors: dict[str, list[Door]] = field(default_factory=dict)

    @cached_property
    def member_of(self) -> HostGroups:
        """Who is in which group; nobody in any where the file is not there."""
        return HostGroups((self.groups or {}).values())

    def doors_of(self, entry: PasswdEntry) -> list[Door]:
        """The doors that may be an account's; the usual one where the server's configuration is not there."""
        if entry.name not in self._doors:
            groups = tuple(self.member_of.of(entry))
            self._doors[entry.name] = doors(self.server or SshServer(), entry.name, entry.uid, groups)
        return self._doors[entry.name]

    def can_leave(self, entry: PasswdEntry, group: str) -> bool:
        """Whether the account is a listed member of a group, and that decides nothing about its sign-ins."""
        if not self.member_of.has_member(group, entry):
            return False
        others = tuple(name for name in self.member_of.of(entry) if name != group)
        server = self.server or SshServer()
        return doors(server, entry.name, entry.uid, others) == self.doors_of(entry)

    @property
    def locks_in_force(self) -> Policy | None:
        """The lockout policy, where it is known to be one: without PAM files, tallies have to be there."""
        return self.locks if self.stacks is not None or self.tallies is not None else None

    def supply(self, folder: str) -> dict[str, str]:
        """Where each fact of an account stands."""
        supply = {name: f"{folder}/etc/passwd, {where}" for name, where in _FROM_PASSWD.items()}
        if self.shadow is not None:
            supply |= {name: f"{folder}/etc/shadow, {where}" for name, where in _FROM_SHADOW.items()}
            supply["as-found"] = f"{folder}/etc/shadow, fields 3 and 8"
        if self.tallies is not None:
            origin = (
                "etc/pam.d: nothing locks after failures" if self.locks is None else "the tally of failures"
            )
            supply |= dict.fromkeys(_FROM_TALLIES, f"{folder}, {origin}")
            supply["locked"] = f"{folder}, {origin}, and etc/shadow, field 2"
            supply["lock-cause"] = supply["locked"]
        if self.server is not None:
            origin = f"{folder}/etc/ssh/sshd_config"
            supply |= dict.fromkeys(("remote-password", "remote-key", "remote-together"), origin)
            supply["lock-stops"] = f"{origin}, UsePAM"
        if self.groups is not None:
            supply["groups"] = f"{folder}/etc/group and the primary group"
        if self.sign_ins.supplies_newest:
            supply["last-sign-in"] = f"{folder}, {', '.join(self.sign_ins.origin)}"
        if self.sign_ins.logged is not None:
            supply["created"] = f"{folder}/var/log, useradd's line"
        return supply

    def facts(self, entry: PasswdEntry, at: datetime, shell_runs: bool | None) -> dict[str, Any]:
        """The facts of one account out of everything but passwd."""
        row: dict[str, Any] = {}
        line = None if self.shadow is None else self.shadow.get(entry.name)
        if self.shadow is not None:
            row |= passwords.of_account(entry, line, self.pam, at)
            if entry.password == "x" and line is not None:
                days = (("last change", line.last_change), ("expires", line.expires))
                row["as-found"] = [name if day is None else f"{name}: {day}" for name, day in days]
            if row["password-empty"] and self.stacks is not None and not self._takes_empty:
                row["password-locked"] = True
        if self.tallies is not None:
            row |= passwords.with_tally(row, self.tallies[entry.name])
        if self.groups is not None:
            row["groups"] = list(self.member_of.of(entry))
        if self.server is not None:
            empty = row.get("password-empty") is True
            found = self.doors_of(entry)
            if shell_runs is False:
                found = [door for door in found if not door.needs_shell]
            # PAM refuses whoever has no line in shadow, whatever proof is shown.
            no_line = passwords.has_no_line(entry, line, self.shadow is not None)
            if no_line if self.server.uses_pam else passwords.is_barred_without_pam(row, entry, line):
                found = []
            ways = ways_of(found, empty_password=empty)
            typed = self.server.uses_pam or passwords.has_password_without_pam(entry, line)
            row |= {
                "remote-password": ways.password and typed,
                "remote-key": ways.key,
                "remote-together": [word for word in ways.together if typed or "password" not in word],
            }
            if not self.server.uses_pam:
                row |= passwords.without_pam(row, line)
            if row.get("locked"):
                row["lock-stops"] = passwords.lock_stops(row, self.server.uses_pam)
        uses = self._uses(entry)
        if self.shadow is not None and row["has-password"] is None:
            uses[UNREAD] = [*uses.get(UNREAD, ()), "has-password"]
            uses[UNREAD] += ["password-scheme"] if row["password-scheme"] is None else []
        return row | uses

    @property
    def _takes_empty(self) -> bool:
        assert self.stacks is not None
        lines = self.stacks.modules("auth", "pam_unix")
        return any(line.has("nullok") or line.has("nullok_secure") for line in lines)

    def _uses(self, entry: PasswdEntry) -> dict[str, Any]:
        """When an account was made and last used. Silence of a record that turns over is not "never"."""
        row: dict[str, Any] = {}
        unread = []
        if self.sign_ins.supplies_newest:
            row["last-sign-in"] = self.sign_ins.newest.get(entry.name)
            if row["last-sign-in"] is None and self.sign_ins.never is None:
                unread.append("last-sign-in")
        if self.sign_ins.logged is not None:
            row["created"] = self.sign_ins.logged.created.get(entry.name)
            if row["created"] is None:
                unread.append("created")
        return row | ({UNREAD: unread} if unread else {})
