"""From sudo's policy to grants: what each account of a host may run as whom, and how it comes to it.

The last rule that fits wins, so a rule that a later one for all commands covers wholly grants nothing
of its own. Power as root is privileged, whichever commands it is limited to.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta
from fnmatch import fnmatchcase
from typing import Any

from keymallet.sources.host.sudo_scan import Member
from keymallet.sources.host.sudoers import Command, Rule, Sudoers

_MOST_SCOPE = 200  # characters


@dataclass(frozen=True)
class Account:
    """What of an account sudo's rules look at."""

    name: str
    uid: int
    groups: dict[str, int]


@dataclass(frozen=True)
class _Entry:
    """One run of commands of a rule that hold alike for an account."""

    rule: Rule
    via: str
    commands: tuple[Command, ...]
    asks: bool

    @property
    def first(self) -> Command:
        return self.commands[0]


class Grants:
    """Works out the grants of a host's accounts."""

    def __init__(self, sudoers: Sudoers, host: str, names: dict[int, str]) -> None:
        self.sudoers = sudoers
        self.host = host
        self.names = names
        self.roots = {"root", "#0", *(name for uid, name in names.items() if uid == 0)}
        self.remarks: set[str] = set()

    def of(self, account: Account) -> list[dict[str, Any]]:
        """The grants of one account. User id 0 is root whatever sudo says."""
        if account.uid == 0:
            return [_root_row(account.name)]
        entries = [entry for rule in self.sudoers.rules for entry in self._entries(rule, account)]
        standing = [
            entry for place, entry in enumerate(entries) if not self._covered(entry, entries[place + 1 :])
        ]
        return [
            self._row(account, entry)
            for entry in standing
            if not all(command.negated for command in entry.commands)
        ]

    def _entries(self, rule: Rule, account: Account) -> Iterator[_Entry]:
        via = self._via(rule.users, account)
        if via is None or not self._on_this_host(rule):
            return
        run: list[Command] = []
        for command in rule.commands:
            if run and _held(command) != _held(run[0]):
                yield _Entry(rule, via, tuple(run), self._asks(rule, account, run[0]))
                run = []
            run.append(command)
        if run:
            yield _Entry(rule, via, tuple(run), self._asks(rule, account, run[0]))

    def _via(
        self, members: tuple[Member, ...], account: Account, known_names: dict[str, str | None] | None = None
    ) -> str | None:
        """How a list names an account: directly, by a group, or None. The last name that fits wins.

        `told` holds what aliases came to: they can be used many times over, and in circles.
        """
        known_names = {} if known_names is None else known_names
        via = None
        for member in members:
            path = self._names(member.word, account, known_names)
            if path is not None:
                via = None if member.negated else path
        return via

    def _names(self, word: str, account: Account, known_names: dict[str, str | None]) -> str | None:
        if word == "ALL":
            return "everyone"
        if word.startswith("%#"):
            gid = word[2:]
            return next(
                (f"group {name}" for name, group in account.groups.items() if str(group) == gid), None
            )
        if word.startswith("%:") or word.startswith("+"):
            self.remarks.add(f"sudo: {word} is a group of a directory: who is in it is not known here")
            return None
        if word.startswith("%"):
            return f"group {word[1:]}" if word[1:] in account.groups else None
        if word.startswith("#"):
            return "direct" if word[1:] == str(account.uid) else None
        if word in self.sudoers.aliases["User"]:
            if word not in known_names:
                known_names[word] = None
                known_names[word] = self._via(self.sudoers.aliases["User"][word], account, known_names)
            return known_names[word]
        return "direct" if word == account.name else None

    def _on_this_host(self, rule: Rule) -> bool:
        if not self.host and any(member.word != "ALL" for member in rule.hosts):
            self.remarks.add("sudo: some rules name hosts; without etc/hostname they are taken to hold here")
            return True
        return _last_fit(self.sudoers, "Host", rule.hosts, self._is_host)

    def _is_host(self, word: str) -> bool:
        if word.startswith("+") or word[:1].isdigit() or ":" in word:
            self.remarks.add(
                f"sudo: whether this host is {word} is not known here; its rules are taken to hold"
            )
            return True
        short = self.host.partition(".")[0].lower()
        return fnmatchcase(self.host.lower(), word.lower()) or fnmatchcase(short, word.lower())

    def _asks(self, rule: Rule, account: Account, command: Command) -> bool:
        if command.asks_password is not None:
            return command.asks_password
        asks = True
        for default in self.sudoers.defaults:
            fits = (
                default.scope == ""
                or (default.scope == ":" and self._via(default.members, account) is not None)
                or (default.scope == "@" and _last_fit(self.sudoers, "Host", default.members, self._is_host))
                or (
                    default.scope == ">" and any(self._as(command, member.word) for member in default.members)
                )
                or (default.scope == "!" and {member.word for member in default.members} >= {command.text})
            )
            asks = default.asks_password if fits else asks
        return asks and not self.sudoers.exempt_groups & account.groups.keys()

    def _as(self, command: Command, user: str) -> bool:
        """Whether a command may be run as a user."""
        if command.runas is None:
            return user in ("root", "#0")
        uid_name = self.names.get(int(user[1:]), "") if user[:1] == "#" and user[1:].isdigit() else user
        return _last_fit(self.sudoers, "Runas", command.runas, lambda word: word in (user, uid_name))

    def _is_as_root(self, command: Command) -> bool:
        if command.runas is None:
            return True
        return _last_fit(self.sudoers, "Runas", command.runas, lambda word: word in self.roots)

    def _covered(self, entry: _Entry, later: Iterable[_Entry]) -> bool:
        """Whether a later rule, for all commands, at all times and as the same users, decides instead."""
        for other in later:
            whole = (
                other.commands[-1].text == "ALL" and other.first.starts is None and other.first.last is None
            )
            if whole and (_words(other.first.runas) in (_words(entry.first.runas), ("ALL",))):
                return True
        return False

    def _row(self, account: Account, entry: _Entry) -> dict[str, Any]:
        first = entry.first
        return {
            "account": account.name,
            "role": f"sudo as {_role(first)}",
            "privileged": self._is_as_root(first),
            "mode": "standing",
            "via": entry.via,
            "scope": _scope(entry.commands),
            "asks-proof": entry.asks,
            "starts": first.starts,
            "ends": _after(first.last),
        }


def _after(last: datetime | None) -> datetime | None:
    """NOTAFTER is inclusive, to the second."""
    try:
        return last + timedelta(seconds=1) if last else None
    except OverflowError:
        return None


def _held(command: Command) -> tuple[object, ...]:
    return (command.runas, command.runas_groups, command.asks_password, command.starts, command.last)


def _words(members: tuple[Member, ...] | None) -> tuple[str, ...]:
    return (
        ("root",)
        if members is None
        else tuple(("!" if member.negated else "") + member.word for member in members)
    )


def _role(command: Command) -> str:
    words = _words(command.runas)
    if words == ("ALL",):
        return "anybody"
    return ", ".join(words) or "oneself"


def _scope(commands: tuple[Command, ...]) -> str:
    text = ", ".join(("not " if command.negated else "") + command.text for command in commands)
    return text if len(text) <= _MOST_SCOPE else text[: _MOST_SCOPE - 1] + "…"


def _last_fit(
    sudoers: Sudoers,
    kind: str,
    members: tuple[Member, ...],
    test: Callable[[str], bool],
    known_answers: dict[str, bool] | None = None,
) -> bool:
    """Whether a list fits: the last of its names that fits decides, an alias standing for its own list."""
    known_answers = {} if known_answers is None else known_answers
    fits = False
    for member in members:
        word, inner = member.word, sudoers.aliases[kind].get(member.word)
        if inner is not None and word not in known_answers:
            known_answers[word] = False
            known_answers[word] = _last_fit(sudoers, kind, inner, test, known_answers)
        matches = word == "ALL" or (known_answers[word] if inner is not None else test(word))
        if matches:
            fits = not member.negated
    return fits


def _root_row(name: str) -> dict[str, Any]:
    return {
        "account": name,
        "role": "root",
        "privileged": True,
        "mode": "standing",
        "via": "user id 0",
        "scope": "ALL",
        "asks-proof": None,
        "starts": None,
        "ends": None,
    }
