"""Which groups an account is in: its primary one, and those that name it."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable

from keymallet.sources.host.lines import GroupEntry, PasswdEntry


class HostGroups:
    """The groups of a host, found by id and by member."""

    def __init__(self, entries: Iterable[GroupEntry]) -> None:
        self._by_id: dict[int, list[GroupEntry]] = defaultdict(list)
        self._by_member: dict[str, list[GroupEntry]] = defaultdict(list)
        for entry in entries:
            self._by_id[entry.gid].append(entry)
            for name in dict.fromkeys(entry.members):
                self._by_member[name].append(entry)

    def has_member(self, group: str, account: PasswdEntry) -> bool:
        """Whether a group names the account as a member, and is not its primary one as well."""
        named = any(entry.name == group for entry in self._by_member.get(account.name, ()))
        return named and not any(entry.name == group for entry in self._by_id.get(account.gid, ()))

    def of(self, account: PasswdEntry) -> dict[str, int]:
        """The ids of an account's groups by their names, the primary one first."""
        primary = self._by_id.get(account.gid, ())
        others = self._by_member.get(account.name, ())
        return {group.name: group.gid for group in (*primary, *others)}
