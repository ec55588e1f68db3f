"""Who signed in, when: the system's records in both their forms, the text logs, and what silence means."""

from __future__ import annotations

import gzip
import sqlite3
import struct
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest

from keymallet.demo.host_files import SignIn, lastlog, lastlog_database, login_records, wtmp_database
from tests.sources.host.support import account, refused, rows_of
from tests.support import AT, days_ago, write

UTMP = struct.Struct("<hxxi32s4s32s256shhiII16s20s")


def last_sign_in(tmp_path: Path, files: dict[str, bytes | str]) -> Any:
    """The newest sign-in of account u; "unknown" where the records cannot tell that there was none."""
    write(tmp_path, {f"h/{path}": data for path, data in files.items()})
    passwd = "u:x:1000:1000::/home/u:/bin/sh\nhigh:x:1001:1::/:/bin/sh\nlow:x:7:1::/:/bin/sh"
    reading, row = account(tmp_path, passwd)
    if "last-sign-in" not in reading.supply["account"]:
        return "not supplied"
    return "unknown" if "last-sign-in" in (row.get("unread") or []) else row["last-sign-in"]


def event(days: float, name: str = "u", origin: str = "192.0.2.7") -> SignIn:
    return SignIn(name, days_ago(days).replace(microsecond=0), origin)


@pytest.mark.parametrize(
    ("files", "expected"),
    [
        ({}, "not supplied"),
        ({"var/log/lastlog": b"", "var/log/wtmp": b""}, "not supplied"),  # newer releases leave them empty
        ({"var/log/lastlog": bytes(292 * 1001)}, "not supplied"),  # sparse and never written
        ({"var/log/lastlog": lastlog({1000: event(3)})}, days_ago(3)),
        ({"var/log/lastlog": lastlog({1001: event(3)})}, None),  # a zero record: never
        ({"var/log/lastlog": lastlog({7: event(3)})}, None),  # beyond the end of the file: never
        ({"var/log/wtmp": login_records([event(3), event(5)], 7)}, days_ago(3)),
        ({"var/log/wtmp": login_records([event(3, "other")], 7)}, "unknown"),  # it turns over each month
        ({"var/log/wtmp": login_records([event(3)], 8)}, "unknown"),  # signing out is no sign-in
        ({"var/log/wtmp.1": login_records([event(40)], 7), "var/log/wtmp": b""}, days_ago(40)),
        ({"var/lib/lastlog/lastlog2.db": lastlog_database([event(2)])}, days_ago(2)),
        ({"var/lib/lastlog/lastlog2.db": lastlog_database([event(2, "other")])}, None),
        ({"var/log/wtmp.db": wtmp_database([event(9), event(4)])}, days_ago(4)),
        (
            {"var/log/lastlog": lastlog({1000: event(9)}), "var/log/wtmp": login_records([event(3)], 7)},
            days_ago(3),
        ),
        ({"var/log/btmp": login_records([event(3)], 6)}, "not supplied"),
    ],
)
def test_newest_sign_in(tmp_path: Path, files: dict[str, bytes | str], expected: Any) -> None:
    """Never, unknown and not supplied are three things."""
    assert last_sign_in(tmp_path, files) == expected


def events(tmp_path: Path, files: dict[str, bytes | str]) -> list[tuple[Any, ...]]:
    write(tmp_path, {f"h/{path}": data for path, data in files.items()})
    names = ("account", "at", "outcome", "proof", "origin")
    return [tuple(row[name] for name in names) for row in rows_of(account(tmp_path)[0], "sign-in")]


LOG = """\
2026-11-20T02:15:05.903637+00:00 vm sshd[1]: Accepted publickey for u from 192.0.2.7 port 50028 ssh2: ED25519 SHA256:abc
2026-11-20T03:15:05+01:00 vm sshd-session[2]: Accepted password for u from 192.0.2.8 port 50028 ssh2
2026-11-20T04:00:00Z vm sshd[3]: Accepted publickey for u from 2001:db8::1 port 5 ssh2: ED25519-SK SHA256:def
2026-11-20T05:00:00Z vm sshd[4]: Failed password for invalid user ghost from 198.51.100.1 port 5 ssh2
2026-11-20T06:00:00Z vm sshd[5]: Failed password for u from 198.51.100.1 from 198.51.100.2 port 5 ssh2
2026-11-20T07:00:00Z vm login[6]: pam_unix(login:session): session opened for user u(uid=1000) by (uid=0)
2026-11-20T08:00:00Z vm useradd[7]: new user: name=u, UID=1000, GID=1000, home=/home/u, shell=/bin/sh, from=none
2026-11-20T09:00:00Z vm cron[8]: something else
"""


def test_the_text_log(tmp_path: Path) -> None:
    """Successes with their proof, failures with the name as the server knows it, the console, new accounts."""
    found = events(tmp_path, {"var/log/auth.log": LOG})
    day = datetime(2026, 11, 20, tzinfo=UTC)
    assert found == [
        ("u", day + timedelta(hours=2, minutes=15, seconds=5), "success", ["password"], "192.0.2.8"),
        (
            "u",
            day + timedelta(hours=2, minutes=15, seconds=5, microseconds=903637),
            "success",
            ["software-key"],
            "192.0.2.7",
        ),
        ("u", day + timedelta(hours=4), "success", ["hardware-key"], "2001:db8::1"),
        ("ghost", day + timedelta(hours=5), "failure", ["password"], "198.51.100.1"),
        # A name may hold anything: what counts is where the line ends.
        ("u from 198.51.100.1", day + timedelta(hours=6), "failure", ["password"], "198.51.100.2"),
        ("u", day + timedelta(hours=7), "success", ["password"], "console"),
    ]
    reading, row = account(tmp_path)
    assert row["created"] == day + timedelta(hours=8)
    assert row["last-sign-in"] == day + timedelta(hours=7)
    assert any(
        "8 lines of sign-in logs: 3 sign-ins, 2 failures, 1 at the console" in each
        for each in reading.remarks
    )


def test_times_without_a_year(tmp_path: Path) -> None:
    """In the host's clock; the newest such day that is not after the reading."""
    lines = "".join(
        f"{when} vm sshd[1]: Accepted password for u from h{number} port 1 ssh2\n"
        for number, when in enumerate(("Nov 24 02:00:00", "Dec  1 23:30:00", "Feb 30 00:00:00"))
    )
    found = events(tmp_path, {"var/log/secure": lines, "etc/timezone": "Europe/Zurich\n"})
    assert [each[1] for each in found] == [
        datetime(2025, 12, 1, 22, 30, tzinfo=UTC),
        datetime(2026, 11, 24, 1, tzinfo=UTC),
        None,
    ]


def test_older_turns_of_the_log_and_packed_ones(tmp_path: Path) -> None:
    """`auth.log.1` and `auth.log.2.gz` are read; a packed one that is damaged is refused."""
    line = "2026-11-{:02}T00:00:00Z vm sshd[1]: Accepted password for u from h port 1 ssh2\n"
    files: dict[str, bytes | str] = {
        "var/log/auth.log": line.format(20),
        "var/log/auth.log.1": line.format(12),
        "var/log/auth.log.2.gz": gzip.compress(line.format(5).encode()),
        "var/log/auth.log.3.gz": b"\x1f\x8bnonsense",
        "var/log/author.log": line.format(1),
    }
    assert [each[1].day for each in events(tmp_path, files)] == [5, 12, 20]
    assert refused(account(tmp_path)[0]) == {("h/var/log/auth.log.3.gz", 0)}


def test_what_two_records_tell_counts_once(tmp_path: Path) -> None:
    """The text log knows the proof; wtmp and btmp tell the same sign-in again, a moment later."""
    at = datetime(2026, 11, 20, 2, 15, 6, tzinfo=UTC)
    again = login_records(
        [SignIn("u", at, "192.0.2.7"), SignIn("u", at + timedelta(minutes=1), "192.0.2.7")], 7
    )
    found = events(tmp_path, {"var/log/auth.log": LOG.splitlines(keepends=True)[0], "var/log/wtmp": again})
    assert [each[3] for each in found] == [["software-key"], None]


def test_damaged_records_are_counted(tmp_path: Path) -> None:
    """A last record that is cut off, microseconds that are none, a database that is none."""
    whole = login_records([event(3)], 7)
    strange = UTMP.pack(7, 1, b"", b"", b"u\0rest", b"h", 0, 0, 0, 1_700_000_000, 5_000_000, b"", b"")
    files: dict[str, bytes | str] = {
        "var/log/wtmp": whole + strange + whole[:100],
        "var/lib/lastlog/lastlog2.db": b"SQLite format 3\0" + bytes(200),
        "var/log/wtmp.db": _database_with_odd_rows(),
    }
    found = events(tmp_path, files)
    assert [(each[0], each[1]) for each in found] == [("u", event(3).at), ("u", None)]
    reading, _ = account(tmp_path)
    assert {("h/var/log/wtmp", 3), ("h/var/lib/lastlog/lastlog2.db", 0), ("h/var/log/wtmp.db", 0)} == refused(
        reading
    )


def _database_with_odd_rows() -> bytes:
    with sqlite3.connect(":memory:") as database:
        database.execute("CREATE TABLE wtmp(ID, Type, User, Login, Logout, TTY, RemoteHost, Service)")
        database.execute(
            "INSERT INTO wtmp VALUES (1, 3, NULL, 5, NULL, NULL, NULL, NULL), (2, 3, 'u', 'x', 0, 0, 0, 0)"
        )
        database.commit()
        return database.serialize()


def test_a_database_that_was_being_written_is_read(tmp_path: Path) -> None:
    """In its write-ahead form too; nothing is written beside the evidence."""
    path = tmp_path / "h/var/lib/lastlog/lastlog2.db"
    path.parent.mkdir(parents=True)
    database = sqlite3.connect(path)
    database.execute("PRAGMA journal_mode = WAL")
    database.execute(
        "CREATE TABLE Lastlog2(Name TEXT PRIMARY KEY, Time INTEGER, TTY TEXT, RemoteHost TEXT, Service TEXT)"
    )
    database.execute("INSERT INTO Lastlog2 VALUES ('u', ?, '', '', '')", (int(days_ago(1).timestamp()),))
    database.commit()
    database.close()
    before = sorted(path.parent.iterdir())
    assert last_sign_in(tmp_path, {}) == days_ago(1)
    assert sorted(path.parent.iterdir()) == before


def test_accounts_of_one_user_id_share_a_record(tmp_path: Path) -> None:
    """As on the host itself; it is said."""
    write(tmp_path, {"h/var/log/lastlog": lastlog({1000: event(3)})})
    reading, _ = account(tmp_path, "u:x:1000:1::/:/bin/sh\ntwin:x:1000:1::/:/bin/sh")
    assert reading.tables["account"]["last-sign-in"].to_list() == [days_ago(3)] * 2
    assert any("they share a user id" in remark for remark in reading.remarks)


def test_last_use_of_a_key(tmp_path: Path) -> None:
    """The log names the key by its fingerprint."""
    key = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJ2uBrV0i8gZSLY9iOyhBTtYVG6yRaXf50Lgn8pMF54X"
    line = LOG.splitlines()[0].replace("SHA256:abc", "SHA256:LKu3Tx33JxDlb4FbOxKRilazsQhTCW+bppuYkgRU8k0")
    write(tmp_path, {"h/var/log/auth.log": line + "\n", "h/home/u/.ssh/authorized_keys": key + "\n"})
    (row,) = rows_of(account(tmp_path)[0], "key")
    assert row["last-used"] == datetime(2026, 11, 20, 2, 15, 5, 903637, tzinfo=UTC)
    assert row["last-used"] < AT


def test_a_sparse_lastlog_is_not_read_whole(tmp_path: Path) -> None:
    """At 292 bytes a user id it can be far larger than any memory, and hold almost nothing."""
    uid = 4_000_000_000
    path = write(tmp_path, {"h/var/log/lastlog": ""}) / "h/var/log/lastlog"
    with path.open("wb") as file:
        file.seek(292 * uid)
        file.write(lastlog({0: event(3)}))
    reading, row = account(tmp_path, f"u:x:{uid}:1::/:/bin/sh")
    assert row["last-sign-in"] == days_ago(3)
    assert [each.bytes for each in reading.files if each.path.endswith("lastlog")] == [292]


# what sudo writes

SUDO = """\
2026-11-20T09:00:00Z vm sudo:        u : TTY=pts/0 ; PWD=/home/u ; USER=root ; COMMAND=/usr/bin/id
2026-11-20T09:00:00Z vm sudo: pam_unix(sudo:session): session opened for user root(uid=0) by (uid=1000)
2026-11-20T09:00:00Z vm sudo: pam_unix(sudo:session): session closed for user root
2026-11-20T09:00:00Z vm sudo:        u : PWD=/root ; USER=root ; GROUP=adm ; COMMAND=/bin/bash --login -c true
2026-11-20T09:30:00Z vm sudo: pam_unix(sudo-i:session): session closed for user root
2026-11-20T10:00:00Z vm sudo:        u : 3 incorrect password attempts ; PWD=/x ; USER=root ; COMMAND=/usr/bin/id
2026-11-20T10:01:00Z vm sudo:        u : command not allowed ; PWD=/x ; USER=daemon ; GROUP=adm ; COMMAND=/usr/bin/id
2026-11-20T10:02:00Z vm sudo:        u : unknown user nosuch ; PWD=/x ; USER=nosuch ;
2026-11-20T10:03:00Z vm sudo:    ghost : user NOT in sudoers ; PWD=/x ; USER=root ; COMMAND=/usr/bin/id
2026-11-20T11:00:00Z vm sudo:        u : PWD=/x ; USER=root ; COMMAND=/usr/bin/top
2026-11-20T11:10:00Z vm sudo:     high : PWD=/x ; USER=root ; COMMAND=/usr/bin/id
2026-11-20T11:10:01Z vm sudo: pam_unix(sudo:session): session closed for user root
2026-11-20T11:20:00Z vm sudo: pam_unix(sudo:session): session closed for user root
2026-11-20T12:00:00Z vm sudo[70]:    u : PWD=/x ; USER=root ; COMMAND=/usr/bin/top
2026-11-20T12:10:00Z vm sudo[71]: high : PWD=/x ; USER=root ; COMMAND=/usr/bin/id
2026-11-20T12:10:01Z vm sudo[71]: pam_unix(sudo:session): session closed for user root
2026-11-20T12:20:00Z vm sudo[70]: pam_unix(sudo:session): session closed for user root
2026-11-20T13:00:00Z vm sudo[72]:    u : PWD=/x ; USER=www ; COMMAND=/bin/sh
"""


def uses_of_sudo(tmp_path: Path, log: str) -> list[tuple[Any, ...]]:
    """Account, role, outcome, minutes from its start to its end, and whether the end is not known."""
    write(tmp_path, {"h/var/log/auth.log": log})
    reading, _ = account(tmp_path, "u:x:1000:1000::/home/u:/bin/sh\nhigh:x:1001:1::/:/bin/sh")
    assert any("sudo used by no account here: ghost" in each for each in reading.remarks) == (
        "ghost :" in log
    )
    return [
        (
            row["account"],
            row["role"],
            row["outcome"],
            None if row["closed"] is None else (row["closed"] - row["starts"]) / timedelta(minutes=1),
            bool(row.get("unread")),
        )
        for row in reading.tables["elevation"].iter_rows(named=True)
    ]


def test_uses_of_sudo(tmp_path: Path) -> None:
    """As it writes them itself. Of two that overlap without their process, neither end is told."""
    assert uses_of_sudo(tmp_path, SUDO) == [
        ("u", "sudo as root", "opened", 0, False),
        ("u", "sudo as root", "opened", 30, False),
        ("u", "sudo as root", "refused", None, False),
        ("u", "sudo as daemon", "refused", None, False),
        ("u", "sudo as nosuch", "refused", None, False),
        ("u", "sudo as root", "opened", None, True),
        ("high", "sudo as root", "opened", None, True),
        ("u", "sudo as root", "opened", 20, False),
        ("high", "sudo as root", "opened", 1 / 60, False),
        ("u", "sudo as www", "opened", None, False),
    ]


def test_uses_of_sudo_in_a_log_that_writes_no_ends(tmp_path: Path) -> None:
    """How long they took cannot be told; one that began before the log ends nothing that is in it."""
    lines = [line for line in SUDO.splitlines() if " closed " not in line]
    found = uses_of_sudo(tmp_path, "\n".join(lines))
    assert {row[3:] for row in found if row[2] == "opened"} == {(None, True)}
    before = "2026-11-20T08:00:00Z vm sudo: pam_unix(sudo:session): session closed for user root\n"
    assert uses_of_sudo(tmp_path, before + SUDO)[0] == ("u", "sudo as root", "opened", 0, False)


def test_a_log_without_sudo_tells_that_nobody_used_it(tmp_path: Path) -> None:
    """The table is there and empty; without any log it is not told."""
    assert uses_of_sudo(tmp_path, LOG) == []
