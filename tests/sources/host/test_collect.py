"""The script that brings a host's files along: what it takes, what it says is none, in three shells."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path
from typing import Any

import pytest

from keymallet.core.facts.reading import Reading
from tests.oracles import needs_root, program
from tests.sources.host.support import HASH, read_hosts, rows_of
from tests.support import run_installed, write

SHELLS = {"dash": ["dash"], "bash": ["bash", "--posix"], "busybox": ["busybox", "sh"]}
KEY = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJ2uBrV0i8gZSLY9iOyhBTtYVG6yRaXf50Lgn8pMF54X laptop\n"
SERVER = """UsePAM yes
Include /etc/ssh/more/*.conf
AuthorizedKeysFile .ssh/authorized_keys /srv/keys/%u
Match User cai
  AuthorizedKeysFile="%h/ownkeys" /srv/other/%U.pub
"""
HOST = {
    "etc/passwd": "root:x:0:0::/root:/bin/sh\nana:x:1000:100::/home/ana:/bin/sh\nben:x:1001:100::/home/ben:/bin/gone\n"
    "cai:x:1002:100::/var/lib/cai:/bin/sh\ndan:x:1003:100::/home/dan/:/bin/sh\nfay:x:1004:100::/data/fay:\n",
    "etc/shadow": "".join(
        f"{name}:{HASH}:20000:0:99999:7:::\n" for name in ("root", "ana", "ben", "cai", "dan", "fay")
    ),
    "etc/group": "users:x:100:\n",
    "etc/hostname": "tix-1\n",
    "etc/sudoers": "root ALL=ALL\n@includedir /etc/sudo-more\n",
    "etc/sudo-more/a": "ana ALL=ALL\n",
    "etc/ssh/sshd_config": SERVER,
    "etc/ssh/more/a.conf": "TrustedUserCAKeys /etc/ssh/ca.pub\n",
    "etc/ssh/ca.pub": KEY,
    "etc/ssh/ssh_host_key": "PRIVATE",
    "home/ana/.ssh/authorized_keys": KEY,
    "home/ana/.ssh/id_ed25519": "PRIVATE",
    "home/ben/notes": "diary",
    "srv/keys/ben": KEY,
    "srv/other/1002.pub": KEY,
    "mnt/data/fay/.ssh/authorized_keys": KEY,
    "var/lib/apt": "",
    "bin/sh": "",
}


@pytest.fixture
def host(tmp_path: Path) -> Path:
    write(tmp_path, {f"h/{path}": text for path, text in HOST.items()})
    root = tmp_path / "h"
    (root / "bin/sh").chmod(0o755)
    (root / "data").symlink_to("/mnt/data")
    return root


def collect(tmp_path: Path, root: Path, shell: list[str], *before: str) -> tuple[Path, str]:
    """Run the script that the program prints; give the unpacked archive and what was said."""
    script = tmp_path / "collect.sh"
    script.write_text(run_installed("read", "--collect-script", cwd=tmp_path).stdout)
    archive = tmp_path / "made.tar.gz"
    words = [*before, program(shell[0]), *shell[1:], str(script), "-r", str(root), "-o", str(archive)]
    done = subprocess.run(words, cwd=tmp_path, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    target = tmp_path / "unpacked" / "h"
    target.mkdir(parents=True)
    subprocess.run(["tar", "-xpzf", str(archive), "-C", str(target)], check=True)
    return target, done.stderr


def told(reading: Reading) -> dict[str, Any]:
    keys = [(row["account"], row["key"], row.get("unread")) for row in rows_of(reading, "key")]
    grants = [(row["account"], row["role"]) for row in rows_of(reading, "grant")]
    accounts = [(row["name"], row["has-password"], row["remote-key"]) for row in rows_of(reading, "account")]
    return {
        "keys": sorted(keys, key=str),
        "grants": grants,
        "accounts": accounts,
        "incomplete": reading.incomplete,
    }


@pytest.mark.parametrize("shell", SHELLS.values(), ids=SHELLS)
def test_what_is_collected_tells_the_same(tmp_path: Path, host: Path, shell: list[str]) -> None:
    """Keys in homes, elsewhere, behind a link; who has none is known to; nothing private is taken."""
    target, said = collect(tmp_path, host, shell)
    found = told(read_hosts(target.parent)[0])
    print_ = "SHA256:LKu3Tx33JxDlb4FbOxKRilazsQhTCW+bppuYkgRU8k0"
    # In the home, in a folder elsewhere, by a block of her own, behind a link; nobody's keys are unknown.
    assert found["keys"] == [(name, print_, None) for name in ("ana", "ben", "cai", "fay")]
    assert ("ana", "sudo as root") in found["grants"]
    # ben's shell is not there: the server refuses him.
    assert found["accounts"] == [
        *[(name, True, name != "ben") for name in ("root", "ana", "ben", "cai", "dan", "fay")]
    ]
    assert found["incomplete"] == [] and "tix-1" in said
    everything = "".join(path.read_text() for path in target.rglob("*") if path.is_file())
    assert "PRIVATE" not in everything and "diary" not in everything


def test_what_could_not_be_read_is_said(tmp_path: Path, host: Path) -> None:
    """By somebody who may not: listed, the reading is incomplete, and no key is told as none."""
    needs_root("running as somebody else")
    (host / "etc/shadow").chmod(0o600)
    (host / "home/dan").mkdir(mode=0o700)
    for folder in (tmp_path, *tmp_path.parents):
        if folder.stat().st_uid == 0 and folder != Path("/"):
            folder.chmod(folder.stat().st_mode | 0o755)
    tmp_path.chmod(0o777)
    as_nobody = [program("setpriv"), "--reuid=65534", "--regid=65534", "--clear-groups"]
    target, said = collect(tmp_path, host, ["dash"], *as_nobody)
    reading = read_hosts(target.parent)[0]
    assert "/etc/shadow" in said and "/home/dan" in said
    (why,) = reading.incomplete
    assert "the collect script could not read" in why and "/etc/shadow" in why
    assert [row["account"] for row in rows_of(reading, "key") if row.get("unread")] == ["dan"]
    assert "has-password" not in reading.supply["account"]


def test_an_archive_is_whole_or_not_there(tmp_path: Path, host: Path) -> None:
    """Interrupted at any time: nothing of it stays, here or among the temporary files."""
    script = tmp_path / "collect.sh"
    script.write_text(run_installed("read", "--collect-script", cwd=tmp_path).stdout)
    for milliseconds in (20, 60, 100, 200):
        words = ["timeout", "-s", "TERM", f"{milliseconds / 1000}", "sh", str(script), "-r", str(host)]
        places = {"TMPDIR": str(tmp_path / "own"), "PATH": "/usr/bin:/bin:/usr/sbin"}
        (tmp_path / "own").mkdir(exist_ok=True)
        subprocess.run(words, cwd=tmp_path, capture_output=True, env=places, check=False)
        assert not list(tmp_path.glob("*.part"))
        assert not [path for path in (tmp_path / "own").rglob("*") if path.is_file()]
        for archive in tmp_path.glob("*.tar.gz"):
            subprocess.run(["tar", "-tzf", str(archive)], capture_output=True, check=True)


def test_it_does_nothing_where_no_host_stands(tmp_path: Path) -> None:
    """And leaves no archive."""
    script = tmp_path / "collect.sh"
    script.write_text(run_installed("read", "--collect-script", cwd=tmp_path).stdout)
    done = subprocess.run(["sh", str(script), "-r", str(tmp_path)], cwd=tmp_path, capture_output=True, text=True, check=False)  # fmt: skip
    assert done.returncode == 2 and "no host's root" in done.stderr
    assert [path.name for path in tmp_path.iterdir()] == ["collect.sh"]
    assert shutil.which("sh")
