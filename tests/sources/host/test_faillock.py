"""Locks after failures: the module's boundaries row by row, its settings, and real tallies."""

from __future__ import annotations

import re
import struct
import subprocess
from datetime import datetime, timedelta
from pathlib import Path

import pytest

from keymallet.sources.host.faillock import FailureTally, Policy, read_tally
from tests.oracles import needs_root, program
from tests.sources.host.support import account, facts_of
from tests.support import AT, write

NOW = int(AT.timestamp())


def records(*ages: int, status: int = 3) -> bytes:
    """Failures so many seconds ago, as the module writes them."""
    return b"".join(struct.pack("<52sHHQ", b"198.51.100.9", 0, status, NOW - age) for age in ages)


def tally(
    data: bytes, policy: Policy | None = None, *, root: bool = False, at: datetime = AT
) -> FailureTally:
    return read_tally(data, policy or Policy(), root=root, at=at)


def is_locked(found: FailureTally, at: datetime = AT) -> bool:
    return found.locked and (found.until is None or at < found.until)


@pytest.mark.parametrize(
    ("data", "policy", "locked"),
    [
        (records(10, 20, 30), Policy(), True),
        (records(10, 20), Policy(), False),
        (records(30, 10, 20), Policy(), True),  # the order in the file is nothing
        (records(600, 610, 620), Policy(), True),  # through the second in which the lock ends
        (records(601, 610, 620), Policy(), False),
        (records(10, 20, 10 + 899), Policy(), True),
        (records(10, 20, 10 + 900), Policy(), False),  # counted from the newest, not from now
        (records(100_000, 100_010, 100_020), Policy(unlock_time=0), True),
        (records(10, 20, 30), Policy(deny=0), False),
        (records(10, 20, 30), Policy(fail_interval=0), False),
        (records(10, 20, 30, status=2), Policy(), False),  # not valid: reset
        (records(10, 20, status=5) + records(30, status=1), Policy(), True),
        (records(10, 20, 30)[:-1], Policy(), False),  # the last record is cut off
        (records(-50, 20, 30), Policy(), True),  # a failure from the future locks
        (b"", Policy(), False),
    ],
)
def test_measured_boundaries(data: bytes, policy: Policy, locked: bool) -> None:
    """Measured with a stopped clock, the same on two releases."""
    assert is_locked(tally(data, policy)) is locked


def test_root_is_locked_only_if_that_is_asked_for() -> None:
    """`even_deny_root` alone makes it so; failures are counted all the same."""
    three = records(10, 20, 30)
    assert not tally(three, root=True).locked
    assert tally(three, root=True).failures == 3
    assert not tally(three, Policy(root_unlock_time=60), root=True).locked
    with_root = Policy(even_deny_root=True, root_unlock_time=20)
    assert is_locked(tally(three, with_root, root=True))
    assert not is_locked(tally(records(21, 30, 31), with_root, root=True))


def test_a_lock_says_since_when_and_until_when() -> None:
    """Until is the first instant at which it is over; without an unlock time there is none."""
    found = tally(records(10, 20, 30))
    assert found.since == AT - timedelta(seconds=10)
    assert found.until == AT + timedelta(seconds=591)
    assert tally(records(10, 20, 30), Policy(unlock_time=0)).until is None


def test_failures_that_no_longer_count_are_not_near_a_lock() -> None:
    """They stand in the file until somebody signs in; only those within the interval would be counted."""
    assert tally(records(10, 899, 900), Policy(deny=5)).failures == 2
    assert tally(records(5_000, 5_001)).failures == 0
    assert tally(records(700, 701, 702)).failures == 3, "within the interval, though the lock is over"


PAM = {
    "h/etc/pam.d/sshd": "@include common-auth\naccount required pam_unix.so\n",
    "h/etc/pam.d/login": "auth include common-auth\n",
    "h/etc/pam.d/common-auth": "auth required pam_faillock.so preauth deny=2 \\\n  unlock_time=never\n"
    "auth sufficient pam_unix.so\nauth [default=die] pam_faillock.so authfail\n",
}


def test_arguments_come_before_the_settings_file(tmp_path: Path) -> None:
    """Module arguments override; a line of the file that is not understood is passed over and told."""
    conf = "deny = 9 # comment\nfail_interval=60\nunlock_time = soon\naudit\nnonsense here\n"
    write(tmp_path, {**PAM, "h/etc/security/faillock.conf": conf, "h/var/run/faillock/u": records(1, 59)})
    reading, row = account(tmp_path)
    assert row["locked"] is True
    assert (row["lock-cause"], row["lock-stops"]) == ("failed-attempts", None)
    assert row["locked-until"] is None
    setting = reading.tables["setting"].row(0, named=True)
    assert (setting["lock-after"], setting["lock-for"]) == (2, None)
    assert setting["count-within"] == timedelta(seconds=60)
    told = [remark for remark in reading.remarks if "faillock.conf line" in remark]
    assert [re.search(r"line (\d)", remark)[1] for remark in told] == ["3", "5"]  # type: ignore[index]


def test_without_the_module_nothing_locks(tmp_path: Path) -> None:
    """Where the PAM files do not use it, a tally left behind means nothing."""
    files = {"h/etc/pam.d/sshd": "auth required pam_unix.so\n", "h/var/run/faillock/u": records(1, 2, 3)}
    write(tmp_path, files)
    reading, row = account(tmp_path)
    assert row["locked"] is False
    assert reading.tables["setting"]["lock-after"].to_list() == [None]


def test_without_tallies_a_lock_is_unknown(tmp_path: Path) -> None:
    """The tallies live in memory: a folder that was not brought along is no folder without tallies."""
    write(tmp_path, PAM)
    reading, row = account(tmp_path)
    assert "failed-attempts" not in reading.supply["account"]
    assert row["locked"] is None


def test_a_group_of_administrators_is_treated_as_root(tmp_path: Path) -> None:
    """`admin_group` of the settings file."""
    write(
        tmp_path,
        {
            "h/etc/security/faillock.conf": "admin_group = wheel\n",
            "h/var/run/faillock/u": records(1, 2, 3),
            "h/etc/group": "wheel:x:10:u\n",
        },
    )
    assert facts_of(tmp_path)["locked"] is False


def test_agrees_with_the_systems_own_reader(tmp_path: Path) -> None:
    """`faillock` lists the same failures, valid or not, from the very file."""
    needs_root("faillock")
    data = records(10, 20) + records(30, status=2) + records(40, status=5)
    (tmp_path / "root").write_bytes(data)
    words = [program("faillock"), "--dir", str(tmp_path), "--user", "root"]
    told = subprocess.run(words, capture_output=True, text=True, env={"TZ": "UTC0"}, check=True).stdout
    listed = re.findall(r"^(\d{4}-\d\d-\d\d \d\d:\d\d:\d\d) +(RHOST|TTY|SVC).*(V|I)$", told, re.MULTILINE)
    valid = sorted(instant for instant, _, state in listed if state == "V")
    assert len(listed) == 4
    found = tally(data, Policy(deny=1))
    assert found.failures == len(valid) == 3
    assert found.newest is not None
    assert f"{found.newest:%Y-%m-%d %H:%M:%S}" == valid[-1]
