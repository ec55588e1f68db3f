"""The files of a host in the shapes the system's own tools write: logs, tallies, keys, configuration.

Keys are random bytes from the demo's seed in the form of public keys; nobody holds their other half.
"""

from __future__ import annotations

import base64
import hashlib
import random
import sqlite3
import struct
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime

_UTMP = struct.Struct("<hxxi32s4s32s256shhiII16s20s")
_LASTLOG = struct.Struct("<I32s256s")
_TALLY = struct.Struct("<52sHHQ")
_BY_HOST = 3  # status of a failure: it counts, and came over the network


@dataclass(frozen=True)
class SshKey:
    """A public key: its line in authorized_keys, and its fingerprint."""

    line: str
    fingerprint: str


def ed25519(source: random.Random, comment: str) -> SshKey:
    """A key of today's usual kind."""
    return _ssh_key("ssh-ed25519", [source.randbytes(32)], comment)


def rsa(source: random.Random, bits: int, comment: str) -> SshKey:
    """An RSA key of so many bits."""
    modulus = source.getrandbits(bits) | 1 << (bits - 1) | 1
    return _ssh_key("ssh-rsa", [b"\1\0\1", b"\0" + modulus.to_bytes(bits // 8, "big")], comment)


def _ssh_key(kind: str, parts: list[bytes], comment: str) -> SshKey:
    blob = b"".join(struct.pack(">I", len(part)) + part for part in (kind.encode(), *parts))
    digest = base64.b64encode(hashlib.sha256(blob).digest()).decode().rstrip("=")
    return SshKey(f"{kind} {base64.b64encode(blob).decode()} {comment}", f"SHA256:{digest}")


def fingerprint(line: str) -> str:
    """The fingerprint of a key's line."""
    blob = base64.b64decode(line.split()[1])
    return "SHA256:" + base64.b64encode(hashlib.sha256(blob).digest()).decode().rstrip("=")


@dataclass(frozen=True)
class SignIn:
    """One sign-in, or a failed one."""

    name: str
    at: datetime
    origin: str


def login_records(events: Iterable[SignIn], kind: int) -> bytes:
    """wtmp (kind 7) or btmp (kind 6)."""
    return b"".join(
        _UTMP.pack(
            *(kind, 4000 + place, b"pts/0", b"ts/0", event.name.encode(), event.origin.encode(), 0, 0, 0),
            *(int(event.at.timestamp()), event.at.microsecond, b"", b""),
        )
        for place, event in enumerate(events)
    )


def lastlog(newest: dict[int, SignIn]) -> bytes:
    """The newest sign-in of each user id, at its place."""
    size = max(newest) + 1
    blank = _LASTLOG.pack(0, b"", b"")
    records = [blank] * size
    for uid, event in newest.items():
        records[uid] = _LASTLOG.pack(int(event.at.timestamp()), b"pts/0", event.origin.encode())
    return b"".join(records)


def lastlog_database(newest: Iterable[SignIn]) -> bytes:
    """The same in the newer SQLite form."""
    with sqlite3.connect(":memory:") as database:
        database.execute(
            "CREATE TABLE Lastlog2(Name TEXT PRIMARY KEY, Time INTEGER, TTY TEXT, RemoteHost TEXT,"
            " Service TEXT)"
        )
        rows = [(event.name, int(event.at.timestamp()), "pts/0", event.origin, "sshd") for event in newest]
        database.executemany("INSERT INTO Lastlog2 VALUES (?, ?, ?, ?, ?)", rows)
        database.commit()
        return database.serialize()


def wtmp_database(events: Iterable[SignIn]) -> bytes:
    """Sign-ins in the newer SQLite form."""
    with sqlite3.connect(":memory:") as database:
        database.execute(
            "CREATE TABLE wtmp(ID INTEGER PRIMARY KEY, Type INTEGER, User TEXT, Login INTEGER,"
            " Logout INTEGER, TTY TEXT, RemoteHost TEXT, Service TEXT)"
        )
        rows = [(event.name, int(event.at.timestamp() * 1_000_000), event.origin) for event in events]
        database.executemany(
            "INSERT INTO wtmp(Type, User, Login, TTY, RemoteHost, Service)"
            " VALUES (3, ?, ?, 'pts/0', ?, 'sshd')",
            rows,
        )
        database.commit()
        return database.serialize()


def tally(failures: Iterable[datetime], origin: str) -> bytes:
    """The failures of one account as pam_faillock counts them."""
    return b"".join(_TALLY.pack(origin.encode(), 0, _BY_HOST, int(at.timestamp())) for at in failures)


def auth_log(accepted: Iterable[tuple[SignIn, str]], failed: Iterable[SignIn], host: str) -> str:
    """The sign-in log: successes by key with its fingerprint, and failures."""
    lines = [
        (
            event.at,
            f"sshd[{20_000 + place}]: Accepted publickey for {event.name} from {event.origin}"
            f" port 50028 ssh2: ED25519 {print_}",
        )
        for place, (event, print_) in enumerate(accepted)
    ]
    lines += [
        (
            event.at,
            f"sshd[{30_000 + place}]: Failed password for {event.name} from {event.origin} port 40112 ssh2",
        )
        for place, event in enumerate(failed)
    ]
    return "".join(f"{at:%Y-%m-%dT%H:%M:%S.%f}+00:00 {host} {text}\n" for at, text in sorted(lines))


PAM = {
    "common-auth": "auth\trequired\t\t\tpam_faillock.so preauth\n"
    "auth\t[success=1 default=ignore]\tpam_unix.so{nullok}\n"
    "auth\t[default=die]\t\t\tpam_faillock.so authfail\n"
    "auth\trequisite\t\t\tpam_deny.so\nauth\trequired\t\t\tpam_permit.so\n",
    "common-account": "account\t[success=1 new_authtok_reqd=done default=ignore]\tpam_unix.so\n"
    "account\trequisite\t\t\tpam_deny.so\naccount\trequired\t\t\tpam_permit.so\n"
    "account\trequired\t\t\tpam_faillock.so\n",
    "common-password": "password\trequisite\t\t\tpam_pwquality.so retry=3\n"
    "password\t[success=1 default=ignore]\tpam_unix.so obscure use_authtok yescrypt remember=4\n"
    "password\trequisite\t\t\tpam_deny.so\npassword\trequired\t\t\tpam_permit.so\n",
    "sshd": "@include common-auth\naccount    required     pam_nologin.so\n@include common-account\n"
    "@include common-password\n",
    "login": "auth       optional   pam_faildelay.so  delay=3000000\n@include common-auth\n"
    "@include common-account\n@include common-password\n",
    "passwd": "@include common-password\n",
}
"""The stacks of PAM; `{nullok}` is where empty passwords are let in."""
