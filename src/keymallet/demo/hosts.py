"""Three ticketing hosts of the railway, in the shapes the system's own tools write."""

from __future__ import annotations

import random
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import UTC, datetime

from keymallet.demo.accounts import AT

_TODAY = (AT - datetime(1970, 1, 1, tzinfo=UTC)).days
_CRYPT = "./0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"
_SYSTEM = (
    ("daemon", 1, "/usr/sbin/nologin"),
    ("bin", 2, "/usr/sbin/nologin"),
    ("sys", 3, "/usr/sbin/nologin"),
    ("sync", 4, "/bin/sync"),
    ("games", 5, "/usr/sbin/nologin"),
    ("man", 6, "/usr/sbin/nologin"),
    ("lp", 7, "/usr/sbin/nologin"),
    ("mail", 8, "/usr/sbin/nologin"),
    ("www-data", 33, "/usr/sbin/nologin"),
    ("backup", 34, "/usr/sbin/nologin"),
    ("messagebus", 101, "/usr/sbin/nologin"),
    ("sshd", 102, "/usr/sbin/nologin"),
    ("nobody", 65534, "/usr/sbin/nologin"),
)
_LOGIN_DEFS = """\
# Set by the railway's installation.
UID_MIN			 1000
UID_MAX			60000
PASS_MAX_DAYS	180
PASS_MIN_DAYS	0
"""


@dataclass
class Entry:
    """One account of a host: its lines in passwd and shadow."""

    name: str
    uid: int
    display: str
    shell: str
    password: str
    last_change: int | str = ""
    maximum: int | str = 180
    expires: int | str = ""

    @property
    def passwd(self) -> str:
        """The line of passwd."""
        home = "/root" if self.name == "root" else f"/home/{self.name}"
        return f"{self.name}:x:{self.uid}:{self.uid}:{self.display}:{home}:{self.shell}"

    @property
    def shadow(self) -> str:
        """The line of shadow."""
        inactive = 30 if self.uid >= 1000 and self.maximum == 180 else ""
        return f"{self.name}:{self.password}:{self.last_change}:0:{self.maximum}:7:{inactive}:{self.expires}:"


class Host:
    """A host in good order. Its faults are planted afterwards, each with the finding it has to cause."""

    def __init__(self, name: str, people: list[tuple[str, str]], seed: int) -> None:
        self.name = name
        self.random = random.Random(f"{seed}/{name}")
        self.causes: list[tuple[str, str]] = []
        self.entries = [Entry("root", 0, "root", "/bin/bash", self.hash("yescrypt"), _TODAY - 60, 99999)]
        self.entries += [Entry(*line[:2], line[0], line[2], "*", 20500, 99999) for line in _SYSTEM]
        for place, (login, display) in enumerate(people):
            changed = _TODAY - self.random.randint(3, 150)
            self.entries.append(
                Entry(login, 1000 + place, f"{display},,,", "/bin/bash", self.hash("yescrypt"), changed)
            )
        for place, service in enumerate(("svc-tickets", "svc-printer")):
            self.entries.append(Entry(service, 1900 + place, "", "/usr/sbin/nologin", "!", 20500, 99999))

    def hash(self, scheme: str) -> str:
        """A field in the shape of a hash; it is of no password."""
        shapes = {"yescrypt": ("$y$j9T$", 22, 43), "sha512": ("$6$", 16, 86), "md5": ("$1$", 8, 22)}
        if scheme == "des":
            return self._letters(13)
        prefix, salt, length = shapes[scheme]
        return f"{prefix}{self._letters(salt)}${self._letters(length)}"

    def _letters(self, number: int) -> str:
        return "".join(self.random.choice(_CRYPT) for _ in range(number))

    def entry(self, name: str) -> Entry:
        """The account of that name."""
        return next(entry for entry in self.entries if entry.name == name)

    def person(self, place: int) -> Entry:
        """One of the people."""
        return [entry for entry in self.entries if 1000 <= entry.uid < 1900][place]

    def cause(self, rule: str, name: str) -> None:
        """Note a finding that an account has to bring about."""
        self.causes.append((rule, name))

    def files(self) -> dict[str, str]:
        """The files of the host, by path."""
        people = [entry.name for entry in self.entries if 1000 <= entry.uid < 1900]
        groups = [f"{entry.name}:x:{entry.uid}:" for entry in self.entries]
        groups += [f"sudo:x:27:{people[0]}", f"tickets:x:1500:{','.join(people)}"]
        gshadow = [f"{line.split(':')[0]}:!::{line.split(':')[3]}" for line in groups]
        return {
            "etc/passwd": _lines(entry.passwd for entry in self.entries),
            "etc/shadow": _lines(entry.shadow for entry in self.entries),
            "etc/group": _lines(groups),
            "etc/gshadow": _lines(gshadow),
            "etc/login.defs": _LOGIN_DEFS,
        }


def _lines(lines: Iterable[str]) -> str:
    return "".join(f"{line}\n" for line in lines)


def ticketing_hosts(people: list[tuple[str, str]], seed: int = 20261124) -> list[Host]:
    """Three hosts with every fault planted. `people` are logins and names; each host gets a third."""
    share = len(people) // 3
    hosts = [
        Host(f"tix-{place + 1}", people[place * share : (place + 1) * share], seed) for place in range(3)
    ]
    first, second, third = hosts

    second_root = Entry("toor", 0, "", "/bin/bash", first.hash("sha512"), _TODAY - 12, 99999)
    first.entries.insert(3, second_root)
    first.cause("one-user-id-0", "toor")
    first.person(1).password = first.hash("md5")
    first.cause("password-scheme", first.person(1).name)
    first.person(2).last_change, first.person(2).maximum = _TODAY - 400, 99999
    first.cause("password-age", first.person(2).name)
    first.cause("password-never-expires", first.person(2).name)

    second.person(0).password = ""
    second.cause("password-empty", second.person(0).name)
    second.entry("svc-printer").shell = "/bin/bash"
    second.cause("service-no-session", "svc-printer")
    second.person(3).password = "!" + second.person(3).password
    second.cause("locked", second.person(3).name)

    third.entry("www-data").password = third.hash("sha512")
    third.cause("no-login-no-password", "www-data")
    third.person(2).password = third.hash("des")
    third.cause("password-scheme", third.person(2).name)
    third.person(4).expires = _TODAY - 20
    third.cause("ended-still-enabled", third.person(4).name)
    # Ends tomorrow, 00:00 UTC: in order today.
    third.person(5).expires = _TODAY + 1
    return hosts
