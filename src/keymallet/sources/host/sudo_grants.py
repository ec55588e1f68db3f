"""From sudo's policy to grants: what each account of a host may run as whom, and how it comes to it.

The last rule that fits wins, so a rule that a later one for all commands covers wholly grants nothing
of its own, and one that a later rule takes root from grants no power as root. Power as root is
privileged, whichever commands it is limited to.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from fnmatch import fnmatchcase
from typing import Any

from keymallet.sources.host.sudo_scan import Member
from keymallet.sources.host.sudoers import Command, Default, Rule, Sudoers

_MOST_SCOPE = 200  # characters
_DENIED = ""
"""Stands for how a list names an account that it leaves out."""


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

    def __init__(self, sudoers: Sudoers, host: str, accounts: list[Account]) -> None:
        self.sudoers = sudoers
        self.host = host
        self.accounts = {account.name: account for account in reversed(accounts)}
        roots = [account for account in accounts if account.uid == 0]
        self.roots = roots or [Account("root", 0, {"root": 0})]
        self.remarks: set[str] = set()

    def of(self, account: Account) -> list[dict[str, Any]]:
        """The grants of one account. User id 0 is root whatever sudo says."""
        if account.uid == 0:
            return [_root_row(account.name)]
        entries = [entry for rule in self.sudoers.rules for entry in self._entries(rule, account)]
        rows = []
        for place, entry in enumerate(entries):
            later = [command for other in entries[place + 1 :] for command in self._sweeping(other)]
            if self._grants_any(entry) and not self._is_covered(entry, later):
                rows.append(self._row(account, entry, later))
        return rows

    def fall_with(self, group: str, account: Account, held: list[dict[str, Any]]) -> bool:
        """Whether the account would lose what it holds by way of a group, and nothing else, by leaving it.

        A rule that names it in another way too holds on; one that this one covered may come to light.
        """
        others = {name: number for name, number in account.groups.items() if name != group}
        return self.of(replace(account, groups=others)) == [
            row for row in held if row["via"] != f"group {group}"
        ]

    def _entries(self, rule: Rule, account: Account) -> Iterator[_Entry]:
        via = self._via(rule.users, account)
        if not via or not self._on_this_host(rule):
            return
        run: list[Command] = []
        for command in rule.commands:
            if run and _held(command) != _held(run[0]):
                yield self._entry(rule, via, run, account)
                run = []
            run.append(command)
        if run:
            yield self._entry(rule, via, run, account)

    def _entry(self, rule: Rule, via: str, run: list[Command], account: Account) -> _Entry:
        """A run of commands; as whom is spelt out where the rule leaves it to the usual user."""
        usual = self._usual_user(account, run[0])
        spelt = [
            replace(command, runas=(Member(usual, False),)) if command.runas is None else command
            for command in run
        ]
        return _Entry(rule, via, tuple(spelt), self._asks(rule, account, spelt[0]))

    def _usual_user(self, account: Account, command: Command) -> str:
        """Whom a rule means that names nobody: runas_default."""
        usual = "root"
        for default in self.sudoers.defaults:
            if default.usual_user is not None and self._holds_for(default, account, command):
                usual = default.usual_user
        return usual

    def _via(
        self, members: tuple[Member, ...], account: Account, known_names: dict[str, str | None] | None = None
    ) -> str | None:
        """How a list names an account: directly, or by a group. The last name that fits wins.

        _DENIED if the list leaves it out, None if it is silent. `known_names` holds what aliases came to:
        they can be used many times over, and in circles.
        """
        known_names = {} if known_names is None else known_names
        via = None
        for member in members:
            path = self._names(member.word, account, known_names)
            if path is not None and member.negated:
                via = "direct" if path == _DENIED else _DENIED
            elif path is not None:
                via = path
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
            if default.asks_password is not None and self._holds_for(default, account, command):
                asks = default.asks_password
        return asks and not self.sudoers.exempt_groups & account.groups.keys()

    def _holds_for(self, default: Default, account: Account, command: Command) -> bool:
        match default.scope:
            case ":":
                return bool(self._via(default.members, account))
            case "@":
                return _last_fit(self.sudoers, "Host", default.members, self._is_host)
            case ">":
                return any(self._is_named(default.members, user) for user in self._targets(command, default))
            case "!":
                return {member.word for member in default.members} >= {command.text}
        return True

    def _targets(self, command: Command, default: Default) -> list[Account]:
        """As whom a command is run, as far as it matters: as root, if it can be; else whom a line names."""
        as_root = [root for root in self.roots if self._is_as(command, root)]
        named = [self._user(member.word) for member in default.members]
        return as_root or [user for user in named if self._is_as(command, user)]

    def _user(self, word: str) -> Account:
        """The account a run-as name means, by its name or its number."""
        number = int(word[1:]) if word[:1] == "#" and word[1:].isdigit() else None
        found = self.accounts.get(word) or next(
            (account for account in self.accounts.values() if account.uid == number), None
        )
        return found or Account(word, 0 if word == "root" else -1, {})

    def _is_as(self, command: Command, user: Account) -> bool:
        """Whether a command may be run as a user."""
        return user.uid == 0 if command.runas is None else self._is_named(command.runas, user)

    def _is_named(self, members: tuple[Member, ...], user: Account) -> bool:
        """Whether a list of run-as users names a user."""

        def names(word: str) -> bool:
            if word.startswith("%#"):
                return word[2:] in map(str, user.groups.values())
            if word.startswith("%"):
                return word[1:] in user.groups
            return word in (user.name, f"#{user.uid}")

        return _last_fit(self.sudoers, "Runas", members, names)

    def _sweeping(self, entry: _Entry) -> list[Command]:
        """The commands of a run that decide for every command, at all times; one that is negated denies."""
        if entry.first.starts is not None or entry.first.last is not None:
            return []
        signs = [(self._sweep(command.text, command.negated, set()), command) for command in entry.commands]
        return [replace(command, negated=not sign) for sign, command in signs if sign is not None]

    def _sweep(self, text: str, negated: bool, circle: set[str]) -> bool | None:
        """Whether a name allows or denies all commands; None if it is for some of them."""
        if text == "ALL":
            return not negated
        sign: bool | None = None
        if text not in circle:
            for member in self.sudoers.aliases["Cmnd"].get(text, ()):
                inner = self._sweep(member.word, member.negated, {*circle, text})
                sign = sign if inner is None else inner
        return sign if sign is None or not negated else not sign

    def _grants_any(self, entry: _Entry) -> bool:
        """Whether anything of a run is allowed: after its last word on all commands, or by that word."""
        signs = [self._sweep(command.text, command.negated, set()) for command in entry.commands]
        last = max((place for place, sign in enumerate(signs) if sign is not None), default=-1)
        rest = [not command.negated for command in entry.commands[last + 1 :]]
        return any(rest) or (last >= 0 and signs[last] is True)

    def _is_covered(self, entry: _Entry, later: list[Command]) -> bool:
        """Whether a later rule, for all commands, at all times and as the same users, decides instead."""
        return any(_words(other.runas) in (_words(entry.first.runas), ("ALL",)) for other in later)

    def _is_as_root(self, command: Command, later: list[Command]) -> bool:
        """Whether a run gives power as somebody of user id 0 that no later rule takes away."""
        for root in self.roots:
            decided = [other.negated for other in later if self._is_as(other, root)]
            if self._is_as(command, root) and not (decided and decided[-1]):
                return True
        return False

    def _row(self, account: Account, entry: _Entry, later: list[Command]) -> dict[str, Any]:
        first = entry.first
        as_root = self._is_as_root(first, later)
        taken = self._is_as_root(first, []) and not as_root
        return {
            "account": account.name,
            "role": f"sudo as {_role(first)}{', not root' if taken else ''}",
            "privileged": as_root,
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
) -> bool:
    """Whether a list fits: the last of its names that fits decides."""
    return _decided(sudoers, kind, members, test, {}) is True


def _decided(
    sudoers: Sudoers,
    kind: str,
    members: tuple[Member, ...],
    test: Callable[[str], bool],
    known_answers: dict[str, bool | None],
) -> bool | None:
    """What a list comes to: yes, no, or nothing, if none of its names fits. An alias is a list of its own."""
    decided = None
    for member in members:
        word, inner = member.word, sudoers.aliases[kind].get(member.word)
        if inner is not None and word not in known_answers:
            known_answers[word] = None
            known_answers[word] = _decided(sudoers, kind, inner, test, known_answers)
        fits = known_answers[word] if inner is not None else True if word == "ALL" or test(word) else None
        if fits is not None:
            decided = fits is not member.negated
    return decided


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
