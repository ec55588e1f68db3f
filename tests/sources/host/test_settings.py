"""A host's own settings, its release, its clock: what its files say, and what they leave open."""

from __future__ import annotations

import os
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import pytest

from tests.oracles import needs_root
from tests.sources.host.support import account, read_hosts, rows_of
from tests.support import AT, write


def setting(tmp_path: Path, **files: str) -> dict[str, Any]:
    write(tmp_path, {f"h/etc/{path.replace('__', '/')}": text for path, text in files.items()})
    (row,) = rows_of(account(tmp_path)[0], "setting")
    return row


def quality(tmp_path: Path, conf: str, arguments: str = "retry=3") -> tuple[Any, Any]:
    pam = f"password requisite pam_pwquality.so {arguments}\npassword required pam_unix.so\n"
    row = setting(tmp_path, **{"security__pwquality.conf": conf, "pam.d__passwd": pam})
    return row["min-length"], row["classes"]


@pytest.mark.parametrize(
    ("conf", "arguments", "expected"),
    [
        ("", "retry=3", (8, 0)),
        ("minlen = 14\nminclass=3\n", "retry=3", (14, 3)),
        ("minlen = 14 # long\n#minlen = 20\n", "minlen=10", (10, 0)),
        ("dcredit = -1\nucredit = -1\n", "", (8, 2)),
        ("minlen = 12\ndcredit = 2\nocredit = 1\n", "", (9, 0)),  # credits let it be shorter
        ("minlen = 3\n", "", (6, 0)),  # the module takes nothing below
        ("minlen = long\nenforcing\n", "", (8, 0)),
    ],
)
def test_password_quality(tmp_path: Path, conf: str, arguments: str, expected: tuple[int, int]) -> None:
    """Arguments come before the file; credits shorten, or demand a class if they are negative."""
    assert quality(tmp_path, conf, arguments) == expected


def test_without_the_quality_module(tmp_path: Path) -> None:
    """pam_unix asks for six characters by itself, and for no classes; its file then means nothing."""
    row = setting(
        tmp_path,
        **{
            "pam.d__passwd": "password required pam_unix.so remember=5\n",
            "security__pwquality.conf": "minlen=20",
        },
    )
    assert (row["min-length"], row["classes"], row["history"]) == (6, None, 5)
    row = setting(tmp_path, **{"pam.d__passwd": "password required pam_unix.so minlen=11\n"})
    assert row["min-length"] == 11


def test_login_defs(tmp_path: Path) -> None:
    """Days; none where there is no bound."""
    row = setting(tmp_path, **{"login.defs": "PASS_MAX_DAYS 90 # days\nPASS_MIN_DAYS\t1\nPASS_WARN_AGE 14\n"})
    assert (row["max-age"], row["min-age"], row["warn-before"]) == tuple(
        timedelta(days=n) for n in (90, 1, 14)
    )
    assert setting(tmp_path, **{"login.defs": "PASS_MAX_DAYS 99999\n"})["max-age"] is None
    assert "min-length" not in row


def test_no_file_no_setting(tmp_path: Path) -> None:
    """Where no file tells of settings, they are not supplied at all."""
    reading, _ = account(tmp_path)
    assert "setting" not in reading.supply


@pytest.mark.parametrize(
    ("release", "pam", "said"),
    [
        ('ID=debian\nVERSION_ID="12"\nPRETTY_NAME="Debian 12"\n', "1.5", "names Debian 12"),
        ('ID=debian\nVERSION_ID="13"\n', "1.7", "names debian"),
        ('ID=ubuntu\nVERSION_ID="24.04"\n', "1.5", "names ubuntu"),
        ("ID=elsewhere\nVERSION_ID=4\n", "1.7", "whose rule is not known here"),
        ('ID="unclosed\nVERSION_ID=12\n', "1.7", "not known here"),
        (None, "1.7", "no release file is there"),
    ],
)
def test_the_release_tells_the_rule(tmp_path: Path, release: str | None, pam: str, said: str) -> None:
    """Guessed from the release file, and said in the notes; the stricter rule where it is not known."""
    if release is not None:
        write(tmp_path, {"h/etc/os-release": release})
    reading, row = account(tmp_path, shadow="u:*:20000:0:90:7:::")
    (told,) = [remark for remark in reading.remarks if "rule of PAM" in remark]
    assert f"PAM {pam}" in told and said in told
    days = (row["password-expires"] - datetime(1970, 1, 1, tzinfo=AT.tzinfo)).days
    assert days == 20_090 + (pam == "1.5")
    assert any("as the estate says" in each for each in account(tmp_path, pam="1.5")[0].remarks)


def test_the_hosts_own_clock(tmp_path: Path) -> None:
    """By etc/timezone, else where etc/localtime leads, else the estate's; said unless the first."""
    reading, _ = account(tmp_path)
    assert any("local times read in Europe/Zurich: the estate's clock" in each for each in reading.remarks)
    (tmp_path / "h/etc/localtime").symlink_to("/usr/share/zoneinfo/America/Lima")
    assert any("America/Lima: etc/localtime" in each for each in account(tmp_path)[0].remarks)
    write(tmp_path, {"h/etc/timezone": "Asia/Tokyo\n"})
    assert not any("local times" in each for each in account(tmp_path)[0].remarks)


def test_other_modules_make_factors_unknown(tmp_path: Path) -> None:
    """A module that may ask for a code of its own: that there is no second factor cannot be told."""
    files = {"h/home/u/x": "", "h/etc/pam.d/sshd": "auth required pam_unix.so\nauth required pam_codes.so\n"}
    write(tmp_path, files)
    reading, _ = account(tmp_path)
    assert "factor" not in reading.supply
    assert any("pam_codes may ask for more than a password" in each for each in reading.remarks)


def test_pam_files_that_include_each_other_end(tmp_path: Path) -> None:
    """And lines that are not understood are passed over and told."""
    write(
        tmp_path,
        {"h/etc/pam.d/sshd": "auth include login\nnonsense\nauth\n", "h/etc/pam.d/login": "@include sshd\n"},
    )
    many = "".join("@include c\n@include a\n@include b\n" for _ in range(3))
    write(tmp_path, {f"h/etc/pam.d/{name}": many for name in "abc"})
    write(
        tmp_path,
        {
            "h/etc/pam.d/passwd": many,
            "h/etc/ssh/sshd_config": "Include /etc/ssh/*\n" * 3,
            "h/etc/ssh/b": "Include *\n" * 3,
        },
    )
    reading, _ = account(tmp_path)
    assert any("sshd_config: included once more than makes sense" in each for each in reading.remarks)
    assert any("pam.d/sshd line 2" in each for each in reading.remarks)


def test_what_may_not_be_read_is_unknown(tmp_path: Path) -> None:
    """A file that is a folder, a pipe or not ours to read is told, and waits for nobody."""
    (tmp_path / "h/etc/sudoers").mkdir(parents=True)
    (tmp_path / "h/var/log").mkdir(parents=True)
    os.mkfifo(tmp_path / "h/var/log/wtmp")
    reading, _ = account(tmp_path)
    told = " ".join(reading.remarks)
    assert "etc/sudoers cannot be read: it is no file" in told
    assert "var/log/wtmp cannot be read: it is no file" in told
    assert "grant" not in reading.supply


def test_odd_accounts_are_remarked(tmp_path: Path) -> None:
    """One user id for two, a password in passwd itself, no line in shadow, a server without PAM."""
    passwd = "a:x:7:1::/:/bin/sh\nb:x:07:1::/:/bin/sh\nc:$1$x$y:8:1::/:/bin/sh\n"
    write(tmp_path, {"h/etc/ssh/sshd_config": "UsePAM no\n"})
    told = " ".join(account(tmp_path, passwd, "a:*:1::::::")[0].remarks)
    assert "a, b share user id 7" in told
    assert "a password of its own for c: ageing is ignored" in told
    assert "no line for b; nothing lets them in" in told
    assert "UsePAM no" in told


def test_a_file_that_only_root_may_read(tmp_path: Path) -> None:
    """Read as anybody else, shadow is a file that may not be read: what it tells is unknown."""
    needs_root("giving up root")
    write(tmp_path, {"h/etc/shadow": "u:*:1::::::\n", "h/etc/passwd": "u:x:1000:1::/:/bin/sh\n"})
    for path in (tmp_path, *tmp_path.parents):
        path.chmod(path.stat().st_mode | 0o055)
    (tmp_path / "h/etc/shadow").chmod(0o600)
    child = os.fork()
    if child == 0:
        os.setuid(65534)
        (reading,) = read_hosts(tmp_path)
        fine = "locked" not in reading.supply["account"] and "Permission denied" in " ".join(reading.remarks)
        os._exit(0 if fine else 1)
    assert os.waitpid(child, 0)[1] == 0
