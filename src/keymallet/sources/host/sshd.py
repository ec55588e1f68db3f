"""`etc/ssh/sshd_config`: what the SSH server's configuration says for an account (sshd_config(5)).

The first value of a keyword counts; what stands in a `Match` block that fits comes before what stands
outside. A list of names is gathered over its lines, and one of the blocks that fit takes the place of the
one outside. Blocks on a user or group are decided for each account; blocks on where somebody comes from
can hold or not.
"""

from __future__ import annotations

import re
import shlex
from dataclasses import dataclass, field
from fnmatch import fnmatchcase
from itertools import combinations

from keymallet.sources.host.files import HostFiles, Includes, text_lines

_PATH = "etc/ssh/sshd_config"
_COLLECTED = ("allowusers", "denyusers", "allowgroups", "denygroups")
_ALWAYS_DECIDED = ("user", "group", "all", "invalid-user")
_DEFAULTS = {
    "permitrootlogin": "prohibit-password",
    "passwordauthentication": "yes",
    "kbdinteractiveauthentication": "yes",
    "pubkeyauthentication": "yes",
    "usepam": "no",
    "permitemptypasswords": "no",
    "strictmodes": "yes",
    "requiredrsasize": "1024",
    "chrootdirectory": "none",
    "authorizedkeysfile": ".ssh/authorized_keys .ssh/authorized_keys2",
}
_RENAMED = {
    "challengeresponseauthentication": "kbdinteractiveauthentication",
    "pubkeyacceptedkeytypes": "pubkeyacceptedalgorithms",
}
_MOST_OPEN = 6
"""Of so many blocks that can hold or not, every combination is looked at."""

Settings = dict[str, list[str]]
Criteria = tuple[tuple[str, tuple[str, ...]], ...]


def value_of(settings: Settings, keyword: str) -> str:
    """The first word of a keyword's value in small letters; its default if it is not set."""
    return settings[keyword][0].lower() if settings.get(keyword) else _DEFAULTS.get(keyword, "")


def words_of(settings: Settings, keyword: str) -> list[str]:
    """All words of a keyword's value as they are written; none where it is not set, or set to `none`."""
    words = settings.get(keyword) or _DEFAULTS.get(keyword, "").split()
    return [] if [word.lower() for word in words] == ["none"] else words


@dataclass
class SshServer:
    """The server's configuration."""

    whole: Settings = field(default_factory=dict)
    blocks: list[tuple[Criteria, Settings]] = field(default_factory=list)

    def value(self, keyword: str) -> str:
        """A keyword's value outside all blocks."""
        return value_of(self.whole, keyword)

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

    def possible(self, name: str | None, groups: tuple[str, ...]) -> list[Settings]:
        """The settings that may hold for an account (None: for anybody), by where it comes from."""
        fitting: list[tuple[bool, Settings]] = []
        for criteria, settings in self.blocks:
            fits = [_fits(kind, patterns, name, groups) for kind, patterns in criteria]
            if all(fit is not False for fit in fits):
                fitting.append((all(fit is True for fit in fits), settings))
        return [self._merged(chosen) for chosen in _choices(fitting)]

    def _merged(self, blocks: list[Settings]) -> Settings:
        merged: Settings = {}
        for settings in blocks:
            for keyword, values in settings.items():
                if keyword in _COLLECTED:
                    merged[keyword] = merged.get(keyword, []) + values
                else:
                    merged.setdefault(keyword, values)
        return self.whole | merged


def _choices(fitting: list[tuple[bool, Settings]]) -> list[list[Settings]]:
    """Which of the blocks hold together: those that surely do, with any of the others."""
    open_places = [place for place, (is_sure, _) in enumerate(fitting) if not is_sure]
    if len(open_places) <= _MOST_OPEN:
        chosen = [
            set(some) for size in range(len(open_places) + 1) for some in combinations(open_places, size)
        ]
    else:
        chosen = [set(), set(open_places), *({place} for place in open_places)]
    return [
        [settings for place, (is_sure, settings) in enumerate(fitting) if is_sure or place in also]
        for also in chosen
    ]


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
    if [word.lower() for word in words] in (["all"], ["invalid-user"]):
        return ((words[0].lower(), ()),)
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
    if kind == "invalid-user":
        return False
    return list_fits(patterns, (name,) if kind == "user" else groups)


def list_fits(patterns: tuple[str, ...] | list[str], names: tuple[str, ...]) -> bool:
    """Whether a list of patterns fits any of the names: one with a `!` that fits outweighs all others."""
    barred = [pattern[1:] for pattern in patterns if pattern.startswith("!")]
    if any(pattern_fits(pattern, name) for pattern in barred for name in names):
        return False
    return any(
        pattern_fits(pattern, name) for pattern in patterns if not pattern.startswith("!") for name in names
    )


def pattern_fits(pattern: str, name: str) -> bool:
    """Whether one pattern fits a name; `!` has no meaning of its own here."""
    return fnmatchcase(name, pattern.replace("[", "[[]"))


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
