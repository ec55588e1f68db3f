"""Accounts made by the system's own tools in a folder of their own, read back."""

from __future__ import annotations

import subprocess
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest

from tests.oracles import needs_root, program
from tests.sources.host.support import read_hosts
from tests.support import write

HASH = "$y$j9T$abcdefghijklmnopqrstuv$0123456789012345678901234567890123456789012"


class Machine:
    """A host's root that the tools work on."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.root = folder / "h"
        write(
            folder,
            {
                "h/etc/passwd": "root:x:0:0:root:/root:/bin/bash\n",
                "h/etc/shadow": "root:*:20000:0:99999:7:::\n",
                "h/etc/group": "root:x:0:\nsudo:x:27:\n",
                "h/etc/gshadow": "root:*::\nsudo:*::\n",
                "h/etc/login.defs": "PASS_MAX_DAYS 120\nPASS_MIN_DAYS 1\nPASS_WARN_AGE 14\nUSERGROUPS_ENAB yes\nUID_MIN 1000\nUID_MAX 60000\n",
                "h/etc/default/useradd": "SHELL=/bin/bash\n",
            },
        )

    def by_prefix(self, *words: str) -> None:
        """useradd, usermod and their like, which take a prefix."""
        self._run(program(words[0]), "--prefix", str(self.root), *words[1:])

    def by_root(self, *words: str) -> None:
        """chage and passwd, which change their root."""
        self._run(program(words[0]), "-R", str(self.root), *words[1:])

    def _run(self, *words: str) -> None:
        done = subprocess.run(
            words, capture_output=True, text=True, env={"TZ": "UTC0", "LC_ALL": "C"}, check=False
        )
        assert done.returncode == 0, (words, done.stderr)

    def facts(self, name: str, **options: Any) -> dict[str, Any]:
        """What Keymallet reads of an account."""
        (reading,) = read_hosts(self.folder, **options)
        return next(row for row in reading.tables["account"].iter_rows(named=True) if row["name"] == name)


@pytest.fixture
def machine(tmp_path: Path) -> Machine:
    needs_root("useradd --prefix")
    return Machine(tmp_path)


def test_a_new_account(machine: Machine) -> None:
    """A `!` for a password: none has been set, which is no lock; ageing is that of login.defs."""
    machine.by_prefix("useradd", "-c", "Anna Arv,,,", "-s", "/bin/bash", "-G", "sudo", "anna")
    row = machine.facts("anna", kinds={"*": "person"})
    assert (row["kind"], row["display"], row["interactive"], row["enabled"]) == (
        "person",
        "Anna Arv",
        True,
        True,
    )
    assert (row["has-password"], row["password-locked"], row["locked"]) == (False, True, None)
    assert (
        row["groups"] == ["anna", "sudo"] or row["groups"] == ["users", "sudo"] or row["groups"] == ["sudo"]
    )
    assert row["password-expires"] - row["password-changed"] == timedelta(days=120), (
        "by the stricter rule of PAM 1.7"
    )
    assert machine.facts("anna", pam="1.5")["password-expires"] - row["password-expires"] == timedelta(days=1)


def test_a_locked_account(machine: Machine) -> None:
    """`usermod -L` and `passwd -l` put a `!` before the hash; `-U` takes it away again."""
    machine.by_prefix("useradd", "-p", HASH, "berta")
    assert machine.facts("berta")["locked"] is None
    machine.by_prefix("usermod", "-L", "berta")
    row = machine.facts("berta")
    assert (row["locked"], row["lock-cause"], row["password-scheme"]) == (True, "administrator", "yescrypt")
    machine.by_prefix("usermod", "-U", "berta")
    assert machine.facts("berta")["locked"] is None
    machine.by_root("passwd", "-l", "berta")
    assert machine.facts("berta")["locked"] is True


def test_an_account_with_an_end(machine: Machine) -> None:
    """It is over at the first second of the day that was named."""
    machine.by_prefix("useradd", "-p", HASH, "-e", "2026-12-31", "cilla")
    assert machine.facts("cilla")["ends"] == datetime(2026, 12, 31, tzinfo=UTC)
    machine.by_prefix("usermod", "-e", "", "cilla")
    assert machine.facts("cilla")["ends"] is None
    machine.by_prefix("usermod", "-L", "-e", "1", "cilla")
    row = machine.facts("cilla")
    assert (row["enabled"], row["ends"]) == (False, None)


def test_ageing_by_chage(machine: Machine) -> None:
    """Maximum, grace, a change that is demanded, and never."""
    machine.by_prefix("useradd", "-p", HASH, "darius")
    machine.by_root("chage", "-d", "2026-08-26", "-M", "90", "-I", "10", "darius")
    row = machine.facts("darius")
    assert row["password-changed"] == datetime(2026, 8, 26, tzinfo=UTC)
    assert row["password-expires"] == datetime(2026, 11, 24, tzinfo=UTC)
    assert row["password-lapses"] == datetime(2026, 12, 4, tzinfo=UTC)
    machine.by_root("chage", "-d", "0", "darius")
    assert machine.facts("darius")["password-must-change"] is True
    machine.by_root("chage", "-d", "2026-08-26", "-M", "-1", "darius")
    row = machine.facts("darius")
    assert (row["password-never-expires"], row["password-expires"], row["password-lapses"]) == (
        True,
        None,
        None,
    )


def test_an_empty_password(machine: Machine) -> None:
    """`passwd -d` empties the field: anybody gets in where PAM takes that."""
    machine.by_prefix("useradd", "-p", HASH, "edda")
    machine.by_root("passwd", "-d", "edda")
    row = machine.facts("edda")
    assert (row["has-password"], row["password-empty"], row["password-locked"]) == (True, True, False)
    write(machine.folder, {"h/etc/pam.d/sshd": "auth required pam_unix.so\n"})
    assert machine.facts("edda")["password-locked"] is True
    write(machine.folder, {"h/etc/pam.d/login": "auth required pam_unix.so nullok\n"})
    assert machine.facts("edda")["password-locked"] is False


def test_a_second_root(machine: Machine) -> None:
    """The tools make one if they are told to; it has user id 0 under any spelling."""
    machine.by_prefix("useradd", "-o", "-u", "0", "-p", HASH, "toor")
    assert machine.facts("toor")["stable-id"] == "0"
    text = (machine.root / "etc/passwd").read_text().replace("toor:x:0:", "toor:x:000:")
    (machine.root / "etc/passwd").write_text(text)
    assert machine.facts("toor")["stable-id"] == "0"
