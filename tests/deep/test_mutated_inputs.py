"""Twenty thousand inputs with something wrong in them, each read in this process: refused or read, never a fault."""

from __future__ import annotations

import random
from collections import Counter
from collections.abc import Callable
from importlib.resources import files
from pathlib import Path
from zoneinfo import ZoneInfo

import pytest

from keymallet.core.base.problems import KeymalletError
from keymallet.core.rulebook.reading import read_rulebook
from keymallet.core.rulebook.register import read_register
from keymallet.core.studies.cases import read_cases
from keymallet.sources.estate import read_estate
from keymallet.sources.export.map_checks import read_column_map
from keymallet.sources.reading import read_sources
from tests.deep.test_damage import damaged
from tests.support import AT, write

CLOCK = ZoneInfo("Europe/Zurich")
HOST = {
    "etc/passwd": "root:x:0:0::/root:/bin/sh\nc:x:1000:1000::/home/c:/bin/sh\n",
    "etc/shadow": "root:*:19000:0:99999:7:::\nc:$6$a$bbbbbbbbbbbbb:20000:1:90:7:14:20500:\n",
    "etc/group": "root:x:0:\nsudo:x:27:c\n",
    "etc/sudoers": "Defaults use_pty\nUser_Alias A = c, %sudo\nA ALL=(ALL:ALL) NOPASSWD: /bin/ls, !/bin/su\n@includedir /etc/sudoers.d\n",
    "etc/ssh/sshd_config": "PermitRootLogin prohibit-password\nAllowUsers c root@192.0.2.*\nMatch User c\n  AuthenticationMethods publickey,password\n",
    "etc/login.defs": "PASS_MAX_DAYS 90\nLOGIN_RETRIES 3\n",
    "etc/pam.d/common-auth": "auth required pam_faillock.so preauth deny=5 unlock_time=600\nauth [success=1 default=ignore] pam_unix.so\n",
    "home/c/.ssh/authorized_keys": 'restrict,from="192.0.2.*",expiry-time="20270101" ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJ1u2 c\n',
    "var/log/auth.log": "Nov 20 09:00:00 vm sshd[1]: Failed password for c from 192.0.2.1 port 22 ssh2\n2026-11-20T09:00:01+01:00 vm sshd[2]: Accepted publickey for c from 192.0.2.1 port 22 ssh2: ED25519 SHA256:x\n",
}  # fmt: skip
LDIF = (
    "version: 1\n\ndn: uid=a,ou=p,o=x\nobjectClass: inetOrgPerson\nobjectClass: shadowAccount\nuid: a\ncn: A\nuserPassword:: e1NTSEF9YQ==\n"
    "pwdChangedTime: 20261101000000Z\npwdAccountLockedTime: 000001010000Z\nshadowMax: 90\nmanager: uid=b,ou=p,o=x\n\n"
    "dn: cn=g,o=x\nobjectClass: groupOfNames\ncn: g\nmember: uid=a,ou=p,o=x\n"
)
CSV = 'Login,Set,On,Groups,Max\na,2026-11-01,yes,"x;y",90d\n"b ""q""",2026-11-02T09:00:00+01:00,no,,8h\n'
JSON = '[{"Login": "a", "Set": "2026-11-01", "On": true, "Groups": ["x", "y"]}, {"Login": "b", "On": null, "Groups": []}]\n'
MAP = (
    'none = ["-"]\n[dates]\nformats = ["iso", "%d.%m.%Y"]\n[account.columns]\nname = "Login"\npassword-changed = "Set"\n'
    'enabled = { from = "On", true = ["yes", "true"], false = ["no"] }\ngroups = { from = "Groups", separator = ";" }\n'
)
HEAD = 'organisation = "O"\nclock = "UTC"\nrulebook = "r.toml"\n'
SOURCES = {
    "csv": '[source.d]\nread = "csv"\nmap = "m.toml"\nfiles = { account = "a.csv" }\n',
    "json": '[source.d]\nread = "json"\nmap = "m.toml"\nfiles = { account = "a.json" }\n',
    "ldif": '[source.d]\nread = "ldif"\nfiles = "d.ldif"\nprivileged-groups = ["g"]\n',
    "host": '[source.d]\nread = "host"\nfolder = "vm"\n',
}
FILES = {
    "a.csv": CSV,
    "a.json": JSON,
    "d.ldif": LDIF,
    "m.toml": MAP,
    **{f"vm/{name}": text for name, text in HOST.items()},
}
OF_SOURCE = {
    "csv": ("a.csv", "m.toml"),
    "json": ("a.json", "m.toml"),
    "ldif": ("d.ldif",),
    "host": tuple(f"vm/{name}" for name in HOST),
}
ESTATE = files("keymallet.demo").joinpath("estate")
TEXTS: dict[str, Callable[[str], object]] = {
    "rulebook.toml": lambda text: read_rulebook(text, "rulebook.toml"),
    "exemptions.toml": lambda text: read_register(text, "exemptions.toml", CLOCK),
    "directory.toml": lambda text: read_column_map(text, "directory.toml", CLOCK),
}  # fmt: skip


def text_of(data: bytes) -> str:
    return data.decode("utf-8", "replace")


@pytest.mark.deep
@pytest.mark.parametrize("part", range(8))
@pytest.mark.parametrize("kind", SOURCES)
def test_sources_with_something_wrong(tmp_path: Path, kind: str, part: int) -> None:
    """Every file that a source is made of; sixteen thousand in all."""
    chance = random.Random(f"{kind} {part}")
    write(tmp_path, {**FILES, "estate.toml": HEAD + SOURCES[kind]})
    estate = read_estate(tmp_path / "estate.toml")
    came = Counter[str]()
    for _ in range(500):
        name = chance.choice(OF_SOURCE[kind])
        whole = FILES[name].encode()
        data = whole
        for _ in range(chance.randrange(1, 3)):
            data = damaged(data, chance) or b"\n"
        (tmp_path / name).write_bytes(data)
        (reading,) = read_sources(estate.sources, estate, AT)
        came["refused" if reading.failed else "read"] += 1
        assert not reading.failed or reading.problems
        (tmp_path / name).write_bytes(whole)
    assert came["read"] > 50, "a reader that refuses everything passes every such test"


@pytest.mark.deep
@pytest.mark.parametrize("part", range(8))
@pytest.mark.parametrize("name", TEXTS)
def test_texts_with_something_wrong(name: str, part: int) -> None:
    """Rulebook, register and map of the railway; four thousand in all."""
    chance = random.Random(f"{name} {part}")
    whole = ESTATE.joinpath(name).read_bytes()
    came = Counter[str]()
    for _ in range(170):
        text = text_of(damaged(whole, chance))
        try:
            TEXTS[name](text)
            came["read"] += 1
        except KeymalletError as error:
            came["refused"] += 1
            assert error.problems and all(problem.message for problem in error.problems)
    assert came["read"] and came["refused"]


@pytest.mark.deep
def test_cases_with_something_wrong() -> None:
    """Cases beside a rulebook."""
    chance = random.Random(1)
    book = read_rulebook(ESTATE.joinpath("rulebook.toml").read_text("utf-8"), "rulebook.toml")
    whole = ESTATE.joinpath("rulebook.cases.toml").read_bytes()[:6000]
    for _ in range(400):
        try:
            read_cases(text_of(damaged(whole, chance)), "cases.toml", book)
        except KeymalletError as error:
            assert error.problems
