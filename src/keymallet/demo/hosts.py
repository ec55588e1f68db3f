"""Three ticketing hosts of the railway, in the shapes the system's own tools write.

A host is in good order at first. Its faults are planted afterwards, each with the finding it has to
cause, so that what is found can be held against it.
"""

from __future__ import annotations

import random
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from importlib.resources import files

from keymallet.demo import host_files
from keymallet.demo.accounts import AT
from keymallet.demo.host_files import SignIn, SshKey

_TODAY = (AT - datetime(1970, 1, 1, tzinfo=UTC)).days
TOOR = AT - timedelta(days=12)
"""When somebody made a second root on the first host."""
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
_SETTINGS = "host rules"
_YEAR_LONG = "SHA256:jExguw30LAwxuhovwLYCkACZUs94b5x2TOzB4eO88Zc serial 4650"


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
    def home(self) -> str:
        """Where it lives."""
        return "/root" if self.name == "root" else f"/home/{self.name}"

    @property
    def passwd(self) -> str:
        """The line of passwd."""
        return f"{self.name}:x:{self.uid}:{self.uid}:{self.display}:{self.home}:{self.shell}"

    @property
    def shadow(self) -> str:
        """The line of shadow."""
        inactive = 30 if self.uid >= 1000 and self.maximum == 180 else ""
        return f"{self.name}:{self.password}:{self.last_change}:0:{self.maximum}:7:{inactive}:{self.expires}:"


class Host:
    """One host and everything its files say."""

    def __init__(self, name: str, debian: int, people: list[tuple[str, str]], seed: int) -> None:
        self.name = name
        self.debian = debian
        self.random = random.Random(f"{seed}/{name}")
        self.causes: list[tuple[str, str, str]] = []
        self.entries = [Entry("root", 0, "root", "/bin/bash", self.hash("yescrypt"), _TODAY - 60, 99999)]
        self.entries += [Entry(*line[:2], line[0], line[2], "*", 20500, 99999) for line in _SYSTEM]
        for place, (login, display) in enumerate(people):
            changed = _TODAY - self.random.randint(3, 150)
            self.entries.append(
                Entry(login, 1000 + place, f"{display},,,", "/bin/bash", self.hash("yescrypt"), changed)
            )
        for place, service in enumerate(("svc-tickets", "svc-printer")):
            self.entries.append(Entry(service, 1900 + place, "", "/usr/sbin/nologin", "!", 20500, 99999))
        self.administrator = people[-1][0]
        self.keys: dict[str, list[str]] = {}
        for login, _ in people:
            self.keys[login] = [self.key(f"{login}@gvr.example").line]
        self.certificates: dict[str, str] = {}
        self.certificates_of_the_day: set[str] = set()
        self.last = {login: self.sign_in(login, self.random.randint(1, 20)) for login, _ in people}
        self.failures: dict[str, list[datetime]] = {}
        self.sshd = {"PermitRootLogin": "no", "PasswordAuthentication": "no"}
        self.quality = {"minlen": 14, "minclass": 3}
        self.lockout = {"deny": 5, "unlock_time": 1800}
        self.maximum_days = 180
        self.nullok = False
        self.sudoers: dict[str, str] = {}

    def hash(self, scheme: str) -> str:
        """A field in the shape of a hash; it is of no password."""
        shapes = {"yescrypt": ("$y$j9T$", 22, 43), "sha512": ("$6$", 16, 86), "md5": ("$1$", 8, 22)}
        if scheme == "des":
            return self._letters(13)
        prefix, salt, length = shapes[scheme]
        return f"{prefix}{self._letters(salt)}${self._letters(length)}"

    def _letters(self, number: int) -> str:
        return "".join(self.random.choice(_CRYPT) for _ in range(number))

    def key(self, comment: str) -> SshKey:
        """A new key of today's kind."""
        return host_files.ed25519(self.random, comment)

    def sign_in(self, login: str, days: float) -> SignIn:
        """A sign-in some days ago, from the railway's own network."""
        return SignIn(login, AT - timedelta(days=days, minutes=self.random.randint(0, 600)), "192.0.2.17")

    def entry(self, name: str) -> Entry:
        """The account of that name."""
        return next(entry for entry in self.entries if entry.name == name)

    def person(self, place: int) -> Entry:
        """One of the people."""
        return self.people[place]

    @property
    def people(self) -> list[Entry]:
        """All people, and whoever is here for a while."""
        return [entry for entry in self.entries if 1000 <= entry.uid < 1900]

    def add_guest(self, name: str, uid: int, expires: int | str) -> Entry:
        """Somebody who is here for a while."""
        guest = Entry(name, uid, "", "/bin/bash", "!", _TODAY - 20, 99999, expires)
        self.entries.append(guest)
        return guest

    def cause(self, rule: str, name: str, subject: str = "") -> None:
        """Note a finding that an account (without a name: the host itself) has to bring about."""
        self.causes.append((rule, name, subject))

    def cause_by_key(self, rule: str, name: str, place: int = 0) -> None:
        """Note a finding on one of an account's keys."""
        self.cause(rule, name, f"ssh-key {host_files.fingerprint(self.keys[name][place])}")

    def files(self) -> dict[str, str | bytes]:
        """The files of the host, by path."""
        people = [entry.name for entry in self.people if not entry.name.startswith("tmp-")]
        groups = [f"{entry.name}:x:{entry.uid}:" for entry in self.entries]
        groups += [f"sudo:x:27:{self.administrator}", f"tickets:x:1500:{','.join(people)}"]
        gshadow = [f"{line.split(':')[0]}:!::{line.split(':')[3]}" for line in groups]
        policies: dict[str, str | bytes] = {
            "etc/passwd": _lines(entry.passwd for entry in self.entries),
            "etc/shadow": _lines(entry.shadow for entry in self.entries),
            "etc/group": _lines(groups),
            "etc/gshadow": _lines(gshadow),
            "etc/hostname": f"{self.name}\n",
            "etc/timezone": "Europe/Zurich\n",
            "etc/os-release": f'PRETTY_NAME="Debian GNU/Linux {self.debian}"\nID=debian\n'
            f'VERSION_ID="{self.debian}"\n',
            "etc/login.defs": _LOGIN_DEFS.format(days=self.maximum_days),
            "etc/security/faillock.conf": _assignments(self.lockout),
            "etc/security/pwquality.conf": _assignments(self.quality),
            "etc/ssh/sshd_config": self._sshd_config(),
            "etc/ssh/user-ca.pub": _shipped("user-ca.pub"),
            "etc/sudoers": _SUDOERS,
            "var/log/lastlog": b"",
            "var/log/wtmp": b"",
            "var/log/btmp": b"",
        }
        nullok = " nullok" if self.nullok else ""
        policies |= {
            f"etc/pam.d/{name}": text.replace("{nullok}", nullok) for name, text in host_files.PAM.items()
        }
        policies |= {f"etc/sudoers.d/{name}": text for name, text in self.sudoers.items()}
        for name, lines in self.keys.items():
            policies[f"{self.entry(name).home.lstrip('/')}/.ssh/authorized_keys"] = _lines(lines)
        for name, certificate in self.certificates.items():
            policies[f"{self.entry(name).home.lstrip('/')}/.ssh/id_ed25519-cert.pub"] = _shipped(certificate)
        for entry in self.people:
            policies.setdefault(f"{entry.home.lstrip('/')}/.bash_logout", "")
        policies.setdefault("root/.bash_logout", "")
        for entry in self.people:
            policies[f"var/run/faillock/{entry.name}"] = host_files.tally(
                self.failures.get(entry.name, ()), "198.51.100.9"
            )
        made = policies | self._records()
        return made | {"keymallet.collected": self._collected(made)}

    def _collected(self, made: dict[str, str | bytes]) -> str:
        """What the script that brought the files along looked for in vain, and the shells it found."""
        wanted = [
            f"{entry.home}/.ssh/{name}"
            for entry in self.entries
            for name in ("authorized_keys", "authorized_keys2")
        ]
        lines = {f"none {path}" for path in wanted if path.lstrip("/") not in made}
        lines |= {f"runs {entry.shell or '/bin/sh'}" for entry in self.entries}
        return _lines(sorted(lines))

    def _sshd_config(self) -> str:
        settings = {
            "UsePAM": "yes",
            "KbdInteractiveAuthentication": "no",
            "TrustedUserCAKeys": "/etc/ssh/user-ca.pub",
            **self.sshd,
        }
        return "# Set by the railway's installation.\n" + "".join(
            f"{key} {value}\n" for key, value in settings.items()
        )

    def _records(self) -> dict[str, str | bytes]:
        """Who signed in, in the form of the host's release."""
        events = sorted(self.last.values(), key=lambda event: event.at)
        failed = [
            SignIn(name, at, "198.51.100.9") for name, instants in self.failures.items() for at in instants
        ]
        if self.debian >= 13:
            return {
                "var/lib/lastlog/lastlog2.db": host_files.lastlog_database(events),
                "var/log/wtmp.db": host_files.wtmp_database(events),
            }
        accepted = [(event, host_files.fingerprint(self.keys[event.name][0])) for event in events]
        return {
            "var/log/lastlog": host_files.lastlog({self.entry(record.name).uid: record for record in events}),
            "var/log/wtmp": host_files.login_records(events, 7),
            "var/log/btmp": host_files.login_records(failed, 6),
            "var/log/auth.log": host_files.auth_log(accepted, failed, self.name),
        }


_LOGIN_DEFS = """\
# Set by the railway's installation.
UID_MIN\t\t\t 1000
UID_MAX\t\t\t60000
PASS_MAX_DAYS\t{days}
PASS_MIN_DAYS\t0
PASS_WARN_AGE\t7
"""
_SUDOERS = """\
Defaults\tenv_reset
Defaults\tmail_badpass
Defaults\tsecure_path="/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"

root\tALL=(ALL:ALL) ALL
%sudo\tALL=(ALL:ALL) ALL
@includedir /etc/sudoers.d
"""


def _lines(lines: Iterable[str]) -> str:
    return "".join(f"{line}\n" for line in lines)


def _assignments(values: dict[str, int]) -> str:
    return _lines(f"{name} = {value}" for name, value in values.items())


def _shipped(name: str) -> str:
    return files("keymallet.demo").joinpath(f"estate/ssh/{name}").read_text("utf-8")


def ticketing_hosts(
    people: list[tuple[str, str]], administrator: tuple[str, str], seed: int = 20261124
) -> list[Host]:
    """Three hosts with every fault planted.

    `people` are logins and names; each host gets a third of them, and the administrator besides, who
    uses one key everywhere.
    """
    share = len(people) // 3
    hosts = [
        Host(f"tix-{place + 1}", release, [*people[place * share : (place + 1) * share], administrator], seed)
        for place, release in enumerate((12, 12, 13))
    ]
    for host in hosts:
        host.keys[administrator[0]] = list(hosts[0].keys[administrator[0]])
    _plant_on_the_first(hosts[0])
    _plant_on_the_second(hosts[1])
    _plant_on_the_third(hosts[2])
    return hosts


def _plant_on_the_first(host: Host) -> None:
    """A second root, a key copied from root, old schemes and ages, a sudo rule whose time is over."""
    host.entries.insert(3, Entry("toor", 0, "", "/bin/bash", host.hash("sha512"), _TODAY - 12, 99999))
    host.cause("one-user-id-0", "toor")
    host.person(1).password = host.hash("md5")
    host.cause("password-scheme", host.person(1).name)
    host.person(2).last_change, host.person(2).maximum = _TODAY - 400, 99999
    host.cause("password-age", host.person(2).name)
    host.cause("password-never-expires", host.person(2).name)

    # Root may sign in with a key, and one of the people has that very key.
    host.sshd["PermitRootLogin"] = "prohibit-password"
    copied = host.keys[host.person(3).name][0]
    host.keys["root"] = [copied]
    host.cause("root-signs-in-directly", "root")
    host.cause_by_key("root-key-not-shared", host.person(3).name)

    weak = host_files.rsa(host.random, 1024, "old-laptop").line
    host.keys[host.person(4).name].append(weak)
    host.cause_by_key("ssh-key-strength", host.person(4).name, 1)

    weeks = "NOTBEFORE=20261001060000Z NOTAFTER=20261031220000Z"
    host.sudoers["audit-weeks"] = f"{host.person(5).name} ALL=(root) {weeks} /usr/bin/tix-audit\n"
    host.cause("sudo-time-over", host.person(5).name, "sudo as root direct")
    host.cause("privilege-through-groups", host.person(5).name, "sudo as root direct")

    idle = host.person(6).name
    host.last[idle] = host.sign_in(idle, 70)
    host.cause("idle", idle)
    host.failures[host.person(0).name] = [AT - timedelta(minutes=minutes) for minutes in (3, 5, 6, 7)]
    host.cause("near-lockout", host.person(0).name)
    # Five failures this morning lock: until half an hour after the last.
    host.failures[host.person(7).name] = [AT - timedelta(minutes=minutes) for minutes in (10, 11, 12, 13, 14)]
    host.cause("locked", host.person(7).name)
    host.cause("lock-leaves-key", host.person(7).name)


def _plant_on_the_second(host: Host) -> None:
    """A host that takes passwords from anywhere, root's too, and asks little of them."""
    host.person(0).password = ""
    host.nullok = True
    host.cause("password-empty", host.person(0).name)
    host.entry("svc-printer").shell = "/bin/bash"
    host.cause("service-no-session", "svc-printer")
    host.person(3).password = "!" + host.person(3).password
    host.cause("locked", host.person(3).name)
    host.cause("lock-leaves-key", host.person(3).name)

    host.sshd = {"PermitRootLogin": "yes", "PasswordAuthentication": "yes"}
    host.cause("root-signs-in-directly", "root")
    host.cause("keys-not-passwords", "", _SETTINGS)
    host.quality = {"minlen": 8, "minclass": 1}
    host.lockout = {"deny": 20, "unlock_time": 60}
    host.maximum_days = 99999
    for rule in ("length", "classes", "age"):
        host.cause(f"setting-password-{rule}", "", _SETTINGS)
    host.cause("setting-lockout-after", "", _SETTINGS)
    host.cause("setting-lockout-for", "", _SETTINGS)

    host.sudoers["tickets"] = (
        "%tickets ALL=(root) NOPASSWD: /usr/bin/systemctl restart tix, /usr/bin/tix-print\n"
    )
    for entry in host.people:
        host.cause("sudo-asks-proof", entry.name, "sudo as root group tickets")


def _plant_on_the_third(host: Host) -> None:
    """Accounts past their end, guests without one, certificates for too long, a shared key."""
    host.entry("www-data").password = host.hash("sha512")
    host.cause("no-login-no-password", "www-data")
    host.person(2).password = host.hash("des")
    # Copied from one line of shadow to the other: both know the password of both.
    host.person(7).password = host.person(6).password
    for place in (6, 7):
        host.cause("password-own", host.person(place).name)
    host.cause("password-scheme", host.person(2).name)
    host.person(4).expires = _TODAY - 20
    host.cause("ended-still-enabled", host.person(4).name)
    host.cause_by_key("key-outlives-account", host.person(4).name)
    # Ends tomorrow, 00:00 UTC: in order today.
    host.person(5).expires = _TODAY + 1

    host.certificates[host.person(0).name] = f"{host.person(0).name}-cert.pub"
    host.certificates_of_the_day = set(host.certificates.values())
    host.certificates[host.person(1).name] = f"{host.person(1).name}-cert.pub"
    host.cause("certificate-life", host.person(1).name, f"ssh-certificate {_YEAR_LONG}")

    host.sudoers["spare"] = f"{host.person(3).name} ALL=(ALL:ALL) ALL\nthis is no rule of sudo\n"
    host.cause("privilege-through-groups", host.person(3).name, "sudo as anybody direct")

    first, second = host.person(6).name, host.person(7).name
    host.keys[second].append(host.keys[first][0])
    host.cause_by_key("key-of-one-person", first)
    host.cause_by_key("key-of-one-person", second, 1)

    kiosk = host.add_guest("tmp-kiosk", 1100, "")
    host.keys[kiosk.name] = [host.key("kiosk fitter").line]
    host.cause("temporary-has-end", kiosk.name)
    host.cause_by_key("temporary-key-has-end", kiosk.name)
    audit = host.add_guest("tmp-audit", 1101, _TODAY + 30)
    host.keys[audit.name] = [f'expiry-time="20261224",from="192.0.2.0/24" {host.key("auditor").line}']
