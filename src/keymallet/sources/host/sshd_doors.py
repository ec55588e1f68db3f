"""Which ways in the SSH server takes from one account: a password, a key, or both one after the other.

What depends on where somebody comes from may hold or not: a way in counts as open if it is open for
anybody, from anywhere. As sshd_config(5) says, and as a real server answered.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from fnmatch import fnmatchcase

from keymallet.sources.host.sshd import Settings, SshServer, list_fits, pattern_fits, value_of, words_of

_CERTIFICATE = "-cert-v01@openssh.com"
_SIGNATURES = {
    "rsa": ("rsa-sha2-512", "rsa-sha2-256", "ssh-rsa"),
    "dsa": ("ssh-dss",),
    "ed25519": ("ssh-ed25519",),
    "ecdsa 256": ("ecdsa-sha2-nistp256",),
    "ecdsa 384": ("ecdsa-sha2-nistp384",),
    "ecdsa 521": ("ecdsa-sha2-nistp521",),
    "ed25519-sk": ("sk-ssh-ed25519@openssh.com",),
    "ecdsa-sk": ("sk-ecdsa-sha2-nistp256@openssh.com",),
}
"""How a key of each kind can prove itself."""


_TOGETHER = {
    "key-and-password": {"publickey", "password"},
    "two-keys": {"publickey", "second key"},
    "two-keys-and-password": {"publickey", "second key", "password"},
}
"""The lists of steps that are told, whatever their order; more than two keys are told as two."""


def _of_certificates(name: str) -> str:
    return name.removesuffix("@openssh.com") + _CERTIFICATE


_PLAIN = [name for names in _SIGNATURES.values() for name in names if name not in ("ssh-rsa", "ssh-dss")]
_TAKEN_BY_DEFAULT = [*map(_of_certificates, _PLAIN), *_PLAIN]


@dataclass(frozen=True)
class Ways:
    """Which proofs the server takes from an account, given that it has them.

    `together` are proofs that are enough only one after the other: a key and a password, two keys, or both.
    """

    password: bool
    key: bool
    together: tuple[str, ...] = ()


@dataclass(frozen=True)
class Door:
    """What the server asks of an account under one set of settings that may hold for it."""

    settings: Settings
    uses_pam: bool
    is_root: bool
    is_admitted: bool
    _steps: list[set[str]] | None = field(init=False, repr=False)

    def __post_init__(self) -> None:
        lists = self.settings.get("authenticationmethods", [])
        is_any = not lists or [method.lower() for method in lists] == ["any"]
        steps = None if is_any else [self._known_steps(method) for method in lists]
        object.__setattr__(self, "_steps", steps)

    def _known_steps(self, method: str) -> set[str]:
        """What a list of methods asks for, without what follows a colon; a second key is one more."""
        asked = [step.partition(":")[0].lower() for step in method.split(",")]
        named = {"password" if step in self._asking else step for step in asked}
        return named | ({"second key"} if asked.count("publickey") > 1 else set())

    @property
    def _asking(self) -> set[str]:
        """The methods by which the server asks for a password."""
        typed = {"password"} if value_of(self.settings, "passwordauthentication") == "yes" else set()
        by_pam = self.uses_pam and value_of(self.settings, "kbdinteractiveauthentication") == "yes"
        return typed | ({"keyboard-interactive"} if by_pam else set())

    @property
    def _roots(self) -> str:
        """How root may come in; everybody else may anyhow."""
        return value_of(self.settings, "permitrootlogin") if self.is_root else "yes"

    @property
    def _knows_keys(self) -> bool:
        return value_of(self.settings, "pubkeyauthentication") == "yes" and self._roots != "no"

    @property
    def takes_password(self) -> bool:
        """A password alone, from whom this door is for."""
        if not self._asking or self._roots != "yes":
            return False
        return self._steps is None or {"password"} in self._steps

    @property
    def takes_key(self) -> bool:
        """A key alone."""
        return self._knows_keys and (self._steps is None or {"publickey"} in self._steps)

    @property
    def takes_together(self) -> set[str]:
        """What it takes one after the other, in whichever order; root is asked at each step."""
        if not self._knows_keys or self._steps is None:
            return set()
        typed = bool(self._asking) and self._roots == "yes"
        return {
            word
            for word, steps in _TOGETHER.items()
            if steps in self._steps and (typed or "password" not in steps)
        }

    def takes(self, algorithm: str, bits: int, *, is_certificate: bool, is_limited: bool) -> bool:
        """Whether a key of this kind and size can prove a sign-in. `is_limited`: to one command."""
        if not self._knows_keys or (self._roots == "forced-commands-only" and not is_limited):
            return False
        if algorithm == "rsa" and bits < _number(value_of(self.settings, "requiredrsasize")):
            return False
        names = _SIGNATURES.get(f"{algorithm} {bits}", _SIGNATURES.get(algorithm, ()))
        names = tuple(map(_of_certificates, names)) if is_certificate else names
        taken = _taken(",".join(words_of(self.settings, "pubkeyacceptedalgorithms")))
        return any(fnmatchcase(name, pattern) for name in names for pattern in taken)

    @property
    def takes_empty(self) -> bool:
        """Whether an empty password is one."""
        return value_of(self.settings, "permitemptypasswords") == "yes"

    @property
    def needs_shell(self) -> bool:
        """Whether the account's shell has to be there: not if it is put into a root of its own."""
        return value_of(self.settings, "chrootdirectory") == "none"


def doors(server: SshServer, name: str, uid: int, groups: tuple[str, ...]) -> list[Door]:
    """The doors that may be an account's, by where it comes from."""
    return [
        Door(settings, server.uses_pam, uid == 0, _admitted(settings, name, groups))
        for settings in server.possible(name, groups)
    ]


def ways_of(found: list[Door], *, empty_password: bool) -> Ways:
    """The ways in through any of an account's doors."""
    admitting = [door for door in found if door.is_admitted]
    typed = [door for door in admitting if not empty_password or door.takes_empty]

    def open_to(word: str) -> list[Door]:
        return typed if "password" in word else admitting

    return Ways(
        any(door.takes_password for door in typed),
        any(door.takes_key for door in admitting),
        tuple(word for word in _TOGETHER if any(word in door.takes_together for door in open_to(word))),
    )


def anybody_by_password(server: SshServer) -> bool:
    """Whether anybody at all may sign in with a password."""
    found = (Door(settings, server.uses_pam, False, True) for settings in server.possible(None, ()))
    return any(
        door.takes_password or any("password" in word for word in door.takes_together) for door in found
    )


def _admitted(settings: Settings, name: str, groups: tuple[str, ...]) -> bool:
    """DenyUsers, AllowUsers, DenyGroups, AllowGroups, in this order; a `!` means nothing in them.

    `user@host` can hold from somewhere, and need not hold from everywhere.
    """
    denied = [pattern.removesuffix("@*") for pattern in settings.get("denyusers", [])]
    if any("@" not in pattern and pattern_fits(pattern, name) for pattern in denied):
        return False
    allowed = [pattern.rpartition("@")[0] or pattern for pattern in settings.get("allowusers", [])]
    if allowed and not any(pattern_fits(pattern, name) for pattern in allowed):
        return False

    def are_named(keyword: str) -> bool:
        return any(pattern_fits(pattern, group) for pattern in settings.get(keyword, []) for group in groups)

    return not are_named("denygroups") and ("allowgroups" not in settings or are_named("allowgroups"))


def _taken(text: str) -> list[str]:
    """The patterns of PubkeyAcceptedAlgorithms: a list, or what is added to, or taken from, the usual one."""
    sign, names = text[:1], [name for name in text.lstrip("+-^").split(",") if name]
    if not text:
        return _TAKEN_BY_DEFAULT
    if sign in "+^":
        return _TAKEN_BY_DEFAULT + names
    if sign == "-":
        return [name for name in _TAKEN_BY_DEFAULT if not list_fits(names, (name,))]
    return names


def _number(text: str) -> int:
    return int(text) if text.isascii() and text.isdigit() and len(text) < 9 else 0
