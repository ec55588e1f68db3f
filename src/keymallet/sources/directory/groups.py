"""Who is in which group of a directory: directly, through other groups, by primary group.

Memberships are followed upwards from each entry; a group that is reached a second time is not
followed again, so that circles end.
"""

from __future__ import annotations

import struct
from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass
from fnmatch import fnmatchcase

from keymallet.sources.directory.entries import Entry, normal_dn

_BY_NAME = {"member": "member", "uniquemember": "uniqueMember"}
_NEVER_EMPTY = {"groupofnames", "groupofuniquenames"}
"""Classes of groups that have to have a member (RFC 4519, 3.5 and 3.6): the last one cannot be removed."""
_MOST_DEEP = 100


@dataclass(frozen=True, slots=True)
class Membership:
    """A group and the path by which somebody is in it, the nearest group first."""

    group: Entry
    path: tuple[str, ...]

    @property
    def via(self) -> str:
        """The path in words."""
        return "group " + " in ".join(self.path)


class _Lines:
    """The members of a group as they stand there, by the account that each is."""

    def __init__(self, group: Entry) -> None:
        self.by_name: dict[str, list[str]] = defaultdict(list)
        self.by_login: dict[str, list[str]] = defaultdict(list)
        for name, attribute in _BY_NAME.items():
            for member in group.texts(name):
                self.by_name[_member_key(name, member)].append(f"{attribute}: {member}")
        for login in group.texts("memberuid"):
            self.by_login[login].append(f"memberUid: {login}")
        self.named = sum(map(len, self.by_name.values()))


class DirectoryGroups:
    """The groups of a directory."""

    def __init__(self, groups: list[Entry]) -> None:
        self.by_key = {group.key: group for group in groups}
        self._above: dict[str, list[Entry]] = defaultdict(list)
        self._by_login: dict[str, list[Entry]] = defaultdict(list)
        self._by_gid: dict[str, list[Entry]] = defaultdict(list)
        self._by_rid: dict[str, list[Entry]] = defaultdict(list)
        self._closures: dict[str, set[str]] = {}
        self._lines: dict[str, _Lines] = {}
        for group in groups:
            for name in _BY_NAME:
                for member in group.texts(name):
                    self._above[_member_key(name, member)].append(group)
            for login in group.texts("memberuid"):
                self._by_login[login].append(group)
            # Two numberings, which must not be mixed up: the same number is another group in each.
            if (number := group.text("gidnumber")) is not None:
                self._by_gid[number].append(group)
            for _, number in _security_id(group):
                self._by_rid[number].append(group)

    def of(self, account: Entry, login: str) -> list[Membership]:
        """Every group an account is in, with the shortest path to it."""
        direct = list(self._above.get(account.key, ()))
        direct += [
            self.by_key[key] for name in account.texts("memberof") if (key := normal_dn(name)) in self.by_key
        ]
        direct += self._by_login.get(login, ())
        if (number := account.text("gidnumber")) is not None:
            direct += self._by_gid.get(number, ())
        if (number := account.text("primarygroupid")) is not None:
            direct += self._primary(account, number)
        groups: dict[str, Membership] = {}
        waiting = [Membership(group, (group_name(group),)) for group in direct]
        while waiting:
            following = []
            for current in waiting:
                if current.group.key in groups or len(current.path) > _MOST_DEEP:
                    continue
                groups[current.group.key] = current
                above = list(self._above.get(current.group.key, ()))
                above += self._named_by(current.group)
                following += [Membership(group, (*current.path, group_name(group))) for group in above]
            waiting = following
        return list(groups.values())

    def lines_of(self, account: Entry, login: str, group: Entry) -> list[str] | None:
        """The values of a group by which an account is in it, as they stand there, with their attribute.

        None where these are not all that puts it there (a group within the group, its primary group), or
        where the group would be left empty and may not be.
        """
        numbers = (account.text("gidnumber"), group.text("gidnumber"))
        if numbers[0] is not None and numbers[0] == numbers[1]:
            return None
        number = account.text("primarygroupid")
        if number is not None and group in self._primary(account, number):
            return None
        others = [*self._above.get(account.key, ()), *self._by_login.get(login, ()), *self._named_by(account)]
        if any(other.key != group.key and group.key in self._reached(other) for other in others):
            return None
        # Worked out once for all members: a group may have as many as there are accounts.
        if group.key not in self._lines:
            self._lines[group.key] = _Lines(group)
        told = self._lines[group.key]
        by_name, by_login = told.by_name.get(account.key, []), told.by_login.get(login, [])
        if by_name and len(by_name) == told.named and group.classes & _NEVER_EMPTY:
            return None
        return by_name + by_login or [f"member: {account.dn}"]

    def _reached(self, group: Entry) -> set[str]:
        """The groups that a group is in, directly or through others."""
        if group.key not in self._closures:
            reached: set[str] = set()
            waiting = [group]
            while waiting:
                current = waiting.pop()
                for above in (*self._above.get(current.key, ()), *self._named_by(current)):
                    if above.key not in reached:
                        reached.add(above.key)
                        waiting.append(above)
            self._closures[group.key] = reached
        return self._closures[group.key]

    def _primary(self, account: Entry, number: str) -> list[Entry]:
        """The groups of a number, of the account's own domain where that is known."""
        found = self._by_rid.get(number, [])
        domains = {domain for domain, _ in _security_id(account)}
        return [
            group for group in found if not domains or domains & {domain for domain, _ in _security_id(group)}
        ]

    def _named_by(self, entry: Entry) -> list[Entry]:
        """The groups an entry itself says it is in."""
        keys = map(normal_dn, entry.texts("memberof"))
        return [self.by_key[key] for key in keys if key in self.by_key]


def _member_key(name: str, member: str) -> str:
    """Whom a value names; behind the name, uniqueMember may have a number (RFC 4517, 3.3.21)."""
    return normal_dn(member.partition("#")[0] if name == "uniquemember" else member)


def group_name(group: Entry) -> str:
    """What people call a group."""
    return group.text("cn", "samaccountname", "ou") or group.dn


def is_one_of(group: Entry, patterns: Iterable[str]) -> bool:
    """Whether a group is meant by any of these names, patterns of names, or DNs."""
    name = group_name(group)
    return any(fnmatchcase(name, pattern) or normal_dn(pattern) == group.key for pattern in patterns)


def _security_id(entry: Entry) -> list[tuple[bytes, str]]:
    """The domain of a binary objectSid, and its last part, which primaryGroupID names."""
    return [
        (sid[8:-4], str(struct.unpack("<I", sid[-4:])[0]))
        for sid in entry.values.get("objectsid", ())
        if len(sid) >= 12 and len(sid) == 8 + 4 * sid[1]
    ]
