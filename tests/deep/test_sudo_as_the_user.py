"""sudo itself, run as the user in a root of its own: who may run what as root, and is asked for a proof."""

from __future__ import annotations

import subprocess
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import pytest

from keymallet.sources.host.hosts import read
from keymallet.sources.request import Request
from keymallet.sources.sections import HostSection
from tests.deep.roots import own_root
from tests.oracles import program

pytestmark = pytest.mark.deep
PASSWORD = "Planted-1"
USERS = {"ada": (2001, 500), "ben": (2002, 500), "cho": (2003, 501), "dov": (2004, 502)}
GROUPS = {"root": (0, ""), "staff": (500, ""), "devs": (501, "ada"), "wheel": (10, "ben"), "ops": (502, "")}
ID, TRUE = "/usr/bin/id", "/usr/bin/true"
RULES = [
    "ada ALL=(ALL:ALL) ALL",
    "ada ALL=ALL",
    "ada ALL=NOPASSWD: ALL",
    "ada ALL=(root) /usr/bin/id",
    "ada ALL=(root) /usr/bin/true",
    "ada ALL=(#0) /usr/bin/id",
    "ada ALL=(ben) ALL",
    "ada ALL=(%root) /usr/bin/id",
    "ada ALL=(%#0) /usr/bin/id",
    "ada ALL=(%staff) /usr/bin/id",
    "ada ALL=(ALL, !root) ALL",
    "ada ALL=(!root, ALL) ALL",
    "ada ALL=() ALL",
    "ada ALL=(:devs) ALL",
    "ada ALL=(ben, root) NOPASSWD: /usr/bin/id",
    "%devs ALL=ALL",
    "%#501 ALL=NOPASSWD: ALL",
    "%wheel ALL=(ALL) ALL",
    "%staff, !ada ALL=ALL",
    "!ada, %staff ALL=ALL",
    "ALL ALL=ALL",
    "ALL, !ben ALL=ALL",
    "#2001 ALL=ALL",
    "User_Alias A = ada, cho\nA ALL=ALL",
    "User_Alias A = ALL, !ada\nA ALL=ALL",
    "User_Alias A = ada\nUser_Alias B = A, ben\nB ALL=NOPASSWD: ALL",
    "Runas_Alias R = root\nada ALL=(R) ALL",
    "Runas_Alias R = ben, !root\nada ALL=(ALL, R) ALL",
    "Runas_Alias R = ALL, !root\nada ALL=(R) ALL",
    "Cmnd_Alias C = /usr/bin/id\nada ALL=C",
    "Cmnd_Alias C = ALL\nada ALL=ALL\nada ALL=!C",
    "Cmnd_Alias C = /usr/bin/id\nada ALL=ALL, !C",
    "Cmnd_Alias C = /usr/bin/true, !/usr/bin/id\nada ALL=ALL, C",
    "ada ALL=ALL\nada ALL=!ALL",
    "ada ALL=!ALL\nada ALL=ALL",
    "ada ALL=ALL, !/usr/bin/id",
    "ada ALL=!/usr/bin/id, ALL",
    "ada ALL=!ALL, /usr/bin/id",
    "ada ALL=/usr/bin/id, !ALL",
    "ada ALL=(ALL) ALL\nada ALL=(root) !ALL",
    "ada ALL=(root) !ALL\nada ALL=(ALL) ALL",
    "ada ALL=(root) ALL\nada ALL=(ALL) !ALL",
    "ada ALL=(root) ALL\nada ALL=(ben) !ALL",
    "ada ALL=(ALL) ALL\nada ALL=(ben) ALL",
    "ada ALL=NOPASSWD: ALL\n%devs ALL=PASSWD: ALL",
    "%devs ALL=PASSWD: ALL\nada ALL=NOPASSWD: ALL",
    "ada ALL=NOPASSWD: /usr/bin/id, PASSWD: /usr/bin/true",
    "Defaults !authenticate\nada ALL=ALL",
    "Defaults:ada !authenticate\nada,ben ALL=ALL",
    "Defaults:%devs !authenticate\nada,ben ALL=ALL",
    "Defaults>root !authenticate\nada ALL=(ALL) ALL",
    "Defaults>ben !authenticate\nada ALL=(ALL) ALL",
    "Defaults exempt_group=wheel\nada,ben ALL=ALL",
    "Defaults runas_default=ben\nada ALL=ALL",
    "Defaults runas_default=ben\nada ALL=(root) ALL",
    "Defaults:ada runas_default=cho\nada,ben ALL=ALL",
    "ada ALL=NOTAFTER=20200101000000Z ALL",
    "ada ALL=NOTBEFORE=20200101000000Z ALL",
    "ada ALL=ALL\nada ALL=NOTAFTER=20200101000000Z !ALL",
    "ada nowhere=ALL",
    "ada here=ALL",
    "Host_Alias H = here, !there\nada H=NOPASSWD: ALL",
    "ada ALL, !here=ALL",
    "ada ALL=/usr/bin/",
    "ada ALL=sudoedit /etc/motd",
    'ada ALL=/usr/bin/id ""',
    "ada ALL=/usr/bin/i[d]",
    "User_Alias A = ALL, !ada\nALL, A ALL=ALL",
    "User_Alias A = ALL, !ada\n!A ALL=ALL",
    "Host_Alias H = ALL, !here\nada ALL, H=ALL",
    "root ALL=(ALL) ALL",
]


@pytest.fixture(scope="module", params=["bookworm", "trixie"])
def root(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    """A system with four users and a password each."""
    found = own_root(request.param, tmp_path_factory.mktemp("sudo"))
    words = [program("openssl"), "passwd", "-6", PASSWORD]
    hashed = subprocess.run(words, capture_output=True, text=True, check=True).stdout.strip()
    people = "".join(f"{name}:x:{uid}:{gid}::/:/bin/sh\n" for name, (uid, gid) in USERS.items())
    etc = found / "etc"
    (etc / "passwd").write_text("root:x:0:0::/root:/bin/sh\n" + people)
    (etc / "shadow").write_text(
        "root:*:20000::::::\n" + "".join(f"{name}:{hashed}:20000:0:99999:7:::\n" for name in USERS)
    )
    (etc / "group").write_text(
        "".join(f"{name}:x:{gid}:{members}\n" for name, (gid, members) in GROUPS.items())
    )
    (etc / "hostname").write_text("here\n")
    (etc / "hosts").write_text("127.0.0.1 here localhost\n")
    yield found


def as_root(root: Path, name: str, *, with_password: bool) -> bool:
    """Whether sudo runs `id` as root for somebody, with the password or without."""
    uid, gid = USERS[name]
    groups = ",".join(str(number) for number, members in GROUPS.values() if name in members.split(","))
    words = [program("unshare"), "--uts", "sh", "-c", 'hostname here && exec "$@"', "sh", program("chroot")]
    words += [f"--userspec={uid}:{gid}", *([f"--groups={groups}"] if groups else []), str(root)]
    words += ["/usr/bin/sudo", "-k", "-u", "root", *(["-S", "-p", ""] if with_password else ["-n"]), ID]
    done = subprocess.run(words, input=PASSWORD + "\n", capture_output=True, text=True, check=False)
    return done.returncode == 0 and done.stdout.startswith("uid=0(")


def grants(root: Path) -> list[dict[str, Any]]:
    with ThreadPoolExecutor(1) as workers:
        section = HostSection(read="host", folder=root.name)
        (reading,) = read(section, Request("h", root.parent, ZoneInfo("UTC"), datetime.now(UTC), workers))
    return list(reading.tables["grant"].iter_rows(named=True))


def told(rows: list[dict[str, Any]], name: str, aliases: dict[str, str]) -> tuple[bool, bool]:
    """Whether somebody can run `id` as root, and is asked first: the last of the grants that names it."""
    allowed = asks = False
    now = datetime.now(UTC)
    for row in rows:
        in_time = (row["starts"] is None or row["starts"] <= now) and (
            row["ends"] is None or row["ends"] > now
        )
        if row["account"] != name or not row["privileged"] or not in_time:
            continue
        for command in row["scope"].split(", "):
            denies, word = command.startswith("not "), command.removeprefix("not ")
            for each in aliases.get(word, word).split(", "):
                if each.lstrip("!") in ("ALL", ID, "/usr/bin/", "/usr/bin/i[d]", f'{ID} ""'):
                    allowed, asks = denies is each.startswith("!"), bool(row["asks-proof"])
    return allowed, allowed and not asks


@pytest.mark.parametrize("rule", RULES)
def test_what_is_told_is_what_sudo_does(root: Path, rule: str) -> None:
    """For each of four users: allowed at all, and without a proof."""
    sudoers = root / "etc/sudoers"
    sudoers.write_text("Defaults !fqdn, !lecture, passwd_tries=1\n" + rule + "\n")
    sudoers.chmod(0o440)
    aliases = dict(
        line.removeprefix("Cmnd_Alias ").split(" = ")
        for line in rule.split("\n")
        if line.startswith("Cmnd_Alias")
    )
    rows = grants(root)
    ours = {name: told(rows, name, aliases) for name in USERS}
    theirs = {
        name: (as_root(root, name, with_password=True), as_root(root, name, with_password=False))
        for name in USERS
    }
    assert ours == theirs
