"""`etc/ssh/sshd_config`: which ways in the SSH server takes, for each account (sshd_config(5)).

The first value of a keyword counts; what stands in a `Match` block that fits comes before what stands
outside. Blocks on a user or group are decided for each account. Blocks on where somebody comes from
can hold or not: a way in counts as open if it is open for anybody, from anywhere.
"""

from __future__ import annotations

import re
import shlex
from dataclasses import dataclass, field
from fnmatch import fnmatchcase

from keymallet.sources.host.files import HostFiles, Includes, text_lines

_PATH = "etc/ssh/sshd_config"
_COLLECTED = ("allowusers", "denyusers", "allowgroups", "denygroups")
_ALWAYS_DECIDED = ("user", "group", "all")
_DEFAULTS = {
    "permitrootlogin": "prohibit-password",
    "passwordauthentication": "yes",
    "kbdinteractiveauthentication": "yes",
    "pubkeyauthentication": "yes",
    "usepam": "no",
    "permitemptypasswords": "no",
    "authorizedkeysfile": ".ssh/authorized_keys .ssh/authorized_keys2",
}
_RENAMED = {"challengeresponseauthentication": "kbdinteractiveauthentication"}

Settings = dict[str, list[str]]
Criteria = tuple[tuple[str, tuple[str, ...]], ...]


@dataclass(frozen=True)
class Ways:
    """Which proofs the server takes from an account, given that it has them."""

    password: bool
    key: bool


@dataclass
class SshServer:
    """The server's configuration."""

    whole: Settings = field(default_factory=dict)
    blocks: list[tuple[Criteria, Settings]] = field(default_factory=list)

    def value(self, keyword: str) -> str:
        """A keyword's value outside all blocks, in small letters; its default if it is not set."""
        return " ".join(self.whole.get(keyword, [_DEFAULTS.get(keyword, "")])).lower()

    def path_value(self, keyword: str) -> str:
        """A keyword's value as it is written, for paths."""
        return " ".join(self.whole.get(keyword, [_DEFAULTS.get(keyword, "")]))

    @property
    def uses_pam(self) -> bool:
        """Whether PAM decides on accounts. `UsePAM no` makes the server refuse what is locked."""
        return self.value("usepam") == "yes"

    @property
    def root(self) -> str:
        """How root may sign in: no, forced-command, key or yes."""
        value = self.value("permitrootlogin")
        words = {"yes": "yes", "no": "no", "forced-commands-only": "forced-command"}
        return words.get(value, "key")

    @property
    def takes_passwords(self) -> bool:
        """Whether anybody at all may sign in with a password."""
        return any(self._password(settings) for settings in self._possible(None, ()))

    def ways(self, name: str, uid: int, groups: tuple[str, ...], *, empty_password: bool) -> Ways:
        """The ways in for one account: open for anybody from anywhere counts as open."""
        password = key = False
        for settings in self._possible(name, groups):
            if not _admitted(settings, name, groups):
                continue
            takes_password, takes_key = self._password(settings), self._key(settings)
            if empty_password and _one(settings, "permitemptypasswords") != "yes":
                takes_password = False
            if uid == 0:
                root = _one(settings, "permitrootlogin")
                takes_password = takes_password and root == "yes"
                takes_key = takes_key and root != "no"
            password, key = password or takes_password, key or takes_key
        return Ways(password, key)

    def _password(self, settings: Settings) -> bool:
        typed = _one(settings, "passwordauthentication") == "yes"
        asked = _one(settings, "kbdinteractiveauthentication") == "yes" and self.uses_pam
        lists = _methods(settings)
        if not lists:
            return typed or asked
        return any(
            all(
                (step == "password" and typed) or (step == "keyboard-interactive" and asked) for step in steps
            )
            for steps in lists
        )

    def _key(self, settings: Settings) -> bool:
        taken = _one(settings, "pubkeyauthentication") == "yes"
        lists = _methods(settings)
        return taken and (not lists or any(set(steps) == {"publickey"} for steps in lists))

    def _possible(self, name: str | None, groups: tuple[str, ...]) -> list[Settings]:
        """The settings that may hold for an account (None: for anybody), by where it comes from."""
        certain: list[tuple[bool, Settings]] = []
        for criteria, settings in self.blocks:
            fits = [_fits(kind, patterns, name, groups) for kind, patterns in criteria]
            if all(fit is not False for fit in fits):
                certain.append((all(fit is True for fit in fits), settings))
        combinations = [self._merged([settings for sure, settings in certain if sure])]
        for place, (sure, _) in enumerate(certain):
            if not sure:
                chosen = [settings for at, (sure, settings) in enumerate(certain) if sure or at == place]
                combinations.append(self._merged(chosen))
        return combinations

    def _merged(self, blocks: list[Settings]) -> Settings:
        merged: Settings = {}
        for settings in (*blocks, self.whole):
            for keyword, values in settings.items():
                if keyword in _COLLECTED:
                    merged[keyword] = merged.get(keyword, []) + values
                else:
                    merged.setdefault(keyword, values)
        return merged


def read_server(files: HostFiles) -> SshServer | None:
    """Read the server's configuration with all it includes; None where it is not there."""
    if not files.is_there(_PATH):
        return None
    server = SshServer()
    _read(files, _PATH, server, (), Includes())
    return server


def _read(files: HostFiles, path: str, server: SshServer, criteria: Criteria, includes: Includes) -> None:
    with includes.entered(path) as fine:
        if fine:
            _read_lines(files, path, server, criteria, includes)
        else:
            files.remark(f"{files.shown(path)}: included once more than makes sense, passed over")


def _read_lines(
    files: HostFiles, path: str, server: SshServer, criteria: Criteria, includes: Includes
) -> None:
    outer = criteria
    settings = server.whole if not criteria else _block(server, criteria)
    for number, line in text_lines(files.bytes_of(path) or b""):
        words = _split(line)
        if words is None:
            files.remark(f"{files.shown(path)} line {number}: a quote is not closed; sshd would not start")
            continue
        if not words:
            continue
        keyword = words[0].lower()
        keyword, values = _RENAMED.get(keyword, keyword), words[1:]
        if keyword == "match":
            nested = _criteria(values)
            if nested is None:
                files.remark(f"{files.shown(path)} line {number}: this Match is not understood")
                nested = (("unknown", ()),)
            criteria = (*outer, *nested)
            settings = _block(server, criteria)
        elif keyword == "include":
            for pattern in values:
                for included in _matching(files, pattern):
                    _read(files, included, server, criteria, includes)
        elif not values:
            files.remark(f"{files.shown(path)} line {number}: {words[0]} has no value; sshd would not start")
        elif keyword in _COLLECTED:
            settings.setdefault(keyword, []).extend(values)
        else:
            settings.setdefault(keyword, values)


def _block(server: SshServer, criteria: Criteria) -> Settings:
    settings: Settings = {}
    server.blocks.append((criteria, settings))
    return settings


def _split(line: str) -> list[str] | None:
    text = line.strip()
    if not text or text.startswith("#"):
        return []
    text = re.sub(r"^(\w+)\s*=\s*", r"\1 ", text)
    try:
        return shlex.split(text, comments=True)
    except ValueError:
        return None


def _criteria(words: list[str]) -> Criteria | None:
    if [word.lower() for word in words] == ["all"]:
        return (("all", ()),)
    if len(words) % 2 or not words:
        return None
    pairs = zip(words[::2], words[1::2], strict=True)
    return tuple((kind.lower(), tuple(patterns.split(","))) for kind, patterns in pairs)


def _fits(kind: str, patterns: tuple[str, ...], name: str | None, groups: tuple[str, ...]) -> bool | None:
    """Whether a criterion fits an account; None if that depends on more than the account."""
    if kind == "all":
        return True
    if kind not in _ALWAYS_DECIDED or name is None:
        return None
    names = (name,) if kind == "user" else groups
    return any(_list_fits(patterns, candidate) for candidate in names)


def _list_fits(patterns: tuple[str, ...] | list[str], name: str) -> bool:
    """A list of patterns: one with a `!` that fits outweighs all others."""
    if any(pattern.startswith("!") and _pattern_fits(pattern[1:], name) for pattern in patterns):
        return False
    return any(_pattern_fits(pattern, name) for pattern in patterns if not pattern.startswith("!"))


def _pattern_fits(pattern: str, name: str) -> bool:
    return fnmatchcase(name, pattern.replace("[", "[[]"))


def _admitted(settings: Settings, name: str, groups: tuple[str, ...]) -> bool:
    """DenyUsers, AllowUsers, DenyGroups, AllowGroups, in this order. `user@host` can hold from somewhere."""
    denied = [pattern for pattern in settings.get("denyusers", []) if "@" not in pattern]
    if _list_fits(denied, name):
        return False
    allowed = [pattern.partition("@")[0] for pattern in settings.get("allowusers", [])]
    if allowed and not _list_fits(allowed, name):
        return False
    if any(_list_fits(settings.get("denygroups", []), group) for group in groups):
        return False
    wanted = settings.get("allowgroups", [])
    return not wanted or any(_list_fits(wanted, group) for group in groups)


def _methods(settings: Settings) -> list[list[str]]:
    """AuthenticationMethods: lists of steps, each step without what follows a colon."""
    lists = settings.get("authenticationmethods", [])
    if [method.lower() for method in lists] == ["any"]:
        return []
    return [[step.partition(":")[0].lower() for step in method.split(",")] for method in lists]


def _one(settings: Settings, keyword: str) -> str:
    return settings[keyword][0].lower() if settings.get(keyword) else _DEFAULTS[keyword]


def _matching(files: HostFiles, pattern: str) -> list[str]:
    """The files an Include names, in the order of their names."""
    place = pattern if pattern.startswith("/") else f"etc/ssh/{pattern}"
    folder, _, name = place.rpartition("/")
    if not any(sign in place for sign in "*?["):
        return [place]
    if any(sign in folder for sign in "*?["):
        files.remark(f"{files.shown(_PATH)}: Include {pattern}: patterns in folders are not followed")
        return []
    return [f"{folder}/{file_name}" for file_name in files.names(folder) if fnmatchcase(file_name, name)]
