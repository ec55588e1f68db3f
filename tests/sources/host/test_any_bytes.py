"""Whatever bytes stand in a host's files: no traceback, and every line is read or counted."""

from __future__ import annotations

import os
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.profiles import examples
from tests.sources.host.support import account, read_hosts, refused
from tests.support import write

FILES = {
    "etc/group": "u:x:1000:\n",
    "etc/gshadow": "u:!::\n",
    "etc/login.defs": "PASS_MAX_DAYS 90\n",
    "etc/os-release": "ID=debian\nVERSION_ID=12\n",
    "etc/timezone": "UTC\n",
    "etc/hostname": "vm\n",
    "etc/security/faillock.conf": "deny = 3\n",
    "etc/security/pwquality.conf": "minlen = 12\n",
    "etc/pam.d/sshd": "auth required pam_faillock.so deny=3\nauth required pam_unix.so\n",
    "etc/pam.d/passwd": "password required pam_pwquality.so\n",
    "etc/ssh/sshd_config": "UsePAM yes\nTrustedUserCAKeys /etc/ssh/ca.pub\nRevokedKeys /etc/ssh/revoked\nMatch User u\n",
    "etc/ssh/ca.pub": "ssh-ed25519 AAAA\n",
    "etc/ssh/revoked": "ssh-ed25519 AAAA\n",
    "etc/sudoers": "u ALL=(ALL) NOPASSWD: ALL\n@includedir /etc/sudoers.d\n",
    "etc/sudoers.d/u": "u ALL=ALL\n",
    "home/u/.ssh/authorized_keys": "ssh-ed25519 AAAA me\n",
    "home/u/.ssh/id-cert.pub": "ssh-ed25519-cert-v01@openssh.com AAAA me\n",
    "var/run/faillock/u": "x" * 64,
    "var/log/wtmp": "x" * 384,
    "var/log/btmp": "x" * 384,
    "var/log/lastlog": "x" * 292,
    "var/log/wtmp.db": "SQLite format 3\0",
    "var/lib/lastlog/lastlog2.db": "SQLite format 3\0",
    "var/log/auth.log": "Nov 24 02:15:02 vm sshd[1]: Accepted publickey for u from h port 1 ssh2\n",
    "var/log/auth.log.1.gz": "\x1f\x8b",
}


@pytest.mark.parametrize("path", FILES)
@examples(8)
@given(data=st.data())
def test_any_bytes(path: str, tmp_path: Path, data: st.DataObject) -> None:
    """Bytes at random, and what stands there with some of it replaced."""
    usual = FILES[path].encode("latin-1")
    cut = data.draw(st.integers(0, len(usual)))
    noise = data.draw(
        st.binary(max_size=120) | st.text('u:ALL=(),!\\"#% \n\0é9', max_size=60).map(str.encode)
    )
    whole = data.draw(st.sampled_from([noise, usual[:cut] + noise + usual[cut:], usual[:cut] + noise]))
    write(tmp_path, {f"h/{name}": text for name, text in FILES.items()})
    write(tmp_path, {f"h/{path}": whole})
    reading, _ = account(tmp_path)
    assert reading.tables["account"].height == 1
    if path == "home/u/.ssh/authorized_keys":
        lines = whole.decode("latin-1").split("\n")
        wanted = [line for line in lines if line.strip(" \t\r") and not line.lstrip(" \t").startswith("#")]
        keys = reading.tables["key"].filter(reading.tables["key"]["kind"] == "ssh-key").height
        counted = [each for each in refused(reading) if each[0].endswith("authorized_keys")]
        assert keys + len(counted) == len(wanted)


def test_names_that_are_no_text(tmp_path: Path) -> None:
    """Names of files in bytes that are no UTF-8, and homes that lead nowhere."""
    write(tmp_path, {"h/etc/sudoers": "#includedir /etc/sudoers.d\n", "h/etc/passwd": ""})
    folder = tmp_path / "h/etc/sudoers.d"
    folder.mkdir()
    (folder / os.fsdecode(b"\xff\xfe")).write_bytes(b"nonsense\n")
    homes = ["/" * 5000, "/a\\0b", "\x01", "", "/home/../../../../etc", "//", "." * 300]
    passwd = "".join(f"u{place}:x:{place}:1::{home}:/bin/sh\n" for place, home in enumerate(homes))
    write(tmp_path, {"h/etc/passwd": passwd, "h/etc/shadow": ""})
    (reading,) = read_hosts(tmp_path)
    assert reading.tables["account"].height == len(homes)
    assert len(refused(reading)) == 1
