"""A real sshd in a root of its own: every way in that is told is the server's answer.

Some forty accounts (shells, locks, ages, keys of all kinds, modes, certificates) by some twenty
configurations, each with its key, its password, and both one after the other, on two releases.
"""

from __future__ import annotations

import os
import re
import shutil
import socket
import subprocess
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from zoneinfo import ZoneInfo

import polars as pl
import pytest

from keymallet.core.evaluating.context import EvaluationContext
from keymallet.core.facts.declaration import TABLES, WAY_IN
from keymallet.core.facts.evidence import ACCOUNT_ROW, Evidence, data_type
from keymallet.core.facts.model import Table
from keymallet.core.facts.reading import Reading
from keymallet.core.linking.linked import LinkingRules
from keymallet.core.linking.passes import link
from keymallet.sources.host.hosts import read
from keymallet.sources.request import Request
from keymallet.sources.sections import HostSection
from keymallet.views.account import known_facts
from tests.deep.roots import own_root
from tests.oracles import program

pytestmark = pytest.mark.deep
PASSWORD = "Planted-1"
TODAY = int(time.time()) // 86_400
DAY = 86_400


@dataclass
class Person:
    """An account of the matrix: its lines, its key, and what is odd about its files."""

    name: str
    hash: str | None = "HASH"
    ageing: str = "20000:0:99999:7:::"
    shell: str = "/bin/sh"
    key: str = "ed25519"
    options: str = ""
    uid: int = 0
    group: str = "staff"
    in_passwd: str = "x"
    file: str = "{home}/.ssh/authorized_keys"
    modes: dict[str, int] = field(default_factory=dict)
    owner: dict[str, int] = field(default_factory=dict)
    certificate: str = ""
    other_key: str = ""

    @property
    def home(self) -> str:
        return "/root" if self.name == "root" else f"/home/{self.name}"


def day(number: int) -> str:
    return str(TODAY + number)


PEOPLE = [
    Person("root", group="root"),
    Person("toor", group="root", uid=-1),
    Person("rootcmd", group="root", uid=-1, options='command="/bin/true" '),
    Person("plain"),
    Person("devone", group="devs"),
    Person("devops", group="devs,ops"),
    Person("pwonly", key=""),
    Person("keyonly", hash="*"),
    Person("bang", hash="!"),
    Person("bangbang", hash="!!"),
    Person("locked", hash="!HASH"),
    Person("starlock", hash="*LK*"),
    Person("empty", hash=""),
    Person("nologin", shell="/usr/sbin/nologin"),
    Person("falseshell", shell="/bin/false"),
    Person("noshell", shell="/bin/no-such-shell"),
    Person("badshell", shell="/etc/plain-file"),
    Person("emptyshell", shell=""),
    Person("endsnow", ageing=f"20000:0:99999:7::{TODAY}:"),
    Person("endedyes", ageing=f"20000:0:99999:7::{TODAY - 1}:"),
    Person("endsnext", ageing=f"20000:0:99999:7::{TODAY + 1}:"),
    Person("endszero", ageing="20000:0:99999:7::0:"),
    Person("aged", ageing=f"{TODAY - 200}:0:90:7:::"),
    Person("agededge", ageing=f"{TODAY - 90}:0:90:7:0::"),
    Person("inactive", ageing=f"{TODAY - 200}:0:90:7:10::"),
    Person("mustchange", ageing="0:0:99999:7:::"),
    Person("noline", hash=None),
    Person("inpasswd", in_passwd="HASH", hash="*"),
    Person("rsa1024", key="rsa -b 1024"),
    Person("rsa3072", key="rsa -b 3072"),
    Person("ecdsa256", key="ecdsa -b 256"),
    Person("ecdsa521", key="ecdsa -b 521"),
    Person("expkey", options='expiry-time="20200101" '),
    Person("badopt", options="no-such-option "),
    Person("cmdkey", options='command="/bin/true" '),
    Person("writable", modes={"{home}/.ssh/authorized_keys": 0o664}),
    Person("openssh", modes={"{home}/.ssh": 0o777}),
    Person("openhome", modes={"{home}": 0o775}),
    Person("foreign", owner={"{home}/.ssh/authorized_keys": 1}),
    Person("second", file="{home}/.ssh/authorized_keys2"),
    Person("etckeys", file="/etc/ssh/keys/{name}"),
    Person("cert", certificate="{name}"),
    Person("certother", certificate="somebody"),
    Person("certold", certificate="{name}"),
    Person("certline", certificate="{name}", options="cert-authority "),
    Person("twokeys", other_key="ed25519"),
    Person("twokinds", other_key="rsa -b 1024", hash="*"),
]

CONFIGS = {
    "usual": "",
    "no pam": "UsePAM no\n",
    "no passwords": "PasswordAuthentication no\nKbdInteractiveAuthentication no\n",
    "both": "AuthenticationMethods publickey,password\n",
    "both by pam": "AuthenticationMethods publickey,keyboard-interactive:pam\nPermitRootLogin yes\n",
    "either": "AuthenticationMethods publickey password\n",
    "two keys": "AuthenticationMethods publickey,publickey password,publickey\n",
    "two keys alone": "AuthenticationMethods publickey,publickey\n",
    "two keys and more": "AuthenticationMethods publickey,publickey,password\n",
    "two keys of a kind": "AuthenticationMethods publickey,publickey\nRequiredRSASize 2048\n",
    "allow with !": "AllowUsers !plain * \n",
    "allow some": "AllowUsers plain dev* cert@127.*\nAllowUsers root\n",
    "deny some": "DenyUsers plain !devone dev*\nDenyGroups ops\n",
    "deny group with !": "DenyGroups !devs ops\n",
    "by group with !": "PasswordAuthentication no\nKbdInteractiveAuthentication no\n"
    "Match Group !devs,*\n PasswordAuthentication yes\n",
    "lists in blocks": "DenyUsers root plain\nMatch User p*\n DenyUsers pwonly\nMatch User *\n DenyUsers devone\n",
    "allow in a block": "AllowUsers devone devops\nMatch User plain\n AllowUsers plain\n",
    "key files": "AuthorizedKeysFile /etc/ssh/keys/%u\nMatch User second,plain\n AuthorizedKeysFile %h/.ssh/authorized_keys2 .ssh/authorized_keys\n",
    "key files none": "Match Group devs\n AuthorizedKeysFile none\n",
    "not strict": "StrictModes no\n",
    "some kinds": "PubkeyAcceptedAlgorithms rsa-sha2-512,ecdsa-*\nAuthorizedKeysFile .ssh/authorized_keys\n",
    "without a kind": "PubkeyAcceptedAlgorithms -ssh-ed25519*,ecdsa-sha2-nistp256\n",
    "large rsa": "RequiredRSASize 2048\nPubkeyAcceptedAlgorithms +ssh-rsa\n",
    "root by command": "PermitRootLogin forced-commands-only\n",
    "root and empty": "PermitRootLogin yes\nPermitEmptyPasswords yes\n",
    "root not": "PermitRootLogin no\n",
    "no pam, root and empty": "UsePAM no\nPermitRootLogin yes\nPermitEmptyPasswords yes\n",
    "no pam, both": "UsePAM no\nAuthenticationMethods password,publickey\n",
    "certificates": "TrustedUserCAKeys /etc/ssh/ca.pub\n",
    "names of certificates": "TrustedUserCAKeys /etc/ssh/ca.pub\nAuthorizedPrincipalsFile /etc/ssh/names/%u\n",
    "no keys": "PubkeyAuthentication no\n",
    "in a root": "Match User noshell,plain\n ChrootDirectory /srv/empty\n",
}


class Machine:
    """A system with the accounts of the matrix, and its sshd."""

    def __init__(self, suite: str, folder: Path) -> None:
        self.root = own_root(suite, folder)
        self.folder = folder / "keys"
        self.folder.mkdir()
        self.password_hash = _output(program("openssl"), "passwd", "-6", PASSWORD)
        for place in ("home", "etc/ssh/keys", "etc/ssh/names", "srv/empty"):
            shutil.rmtree(self.root / place, ignore_errors=True)
            (self.root / place).mkdir(parents=True)
        (self.root / "run/sshd").mkdir(parents=True, exist_ok=True)
        (self.root / "etc/plain-file").write_text("")
        shutil.rmtree(self.root / "root/.ssh", ignore_errors=True)
        self._keygen("-t", "ed25519", "-f", self.folder / "ca")
        shutil.copy(self.folder / "ca.pub", self.root / "etc/ssh/ca.pub")
        (self.root / "etc/ssh/names/certother").write_text("somebody\n")
        self._accounts()
        _output(program("chroot"), str(self.root), "/usr/bin/ssh-keygen", "-A")
        version = subprocess.run([program("chroot"), str(self.root), "/usr/sbin/sshd", "-V"], capture_output=True, text=True, check=False)  # fmt: skip
        told = re.search(r"OpenSSH_(\d+)\.(\d+)", version.stdout + version.stderr)
        self.version = (int(told[1]), int(told[2])) if told else (9, 2)

    def _keygen(self, *words: str | Path) -> None:
        _output(program("ssh-keygen"), "-q", "-N", "", *map(str, words))

    def _accounts(self) -> None:
        ids = {person.name: 3000 + place for place, person in enumerate(PEOPLE)}
        ids |= {person.name: 0 for person in PEOPLE if person.uid == -1 or person.name == "root"}
        groups = {"root": 0, "staff": 500, "devs": 501, "ops": 502}
        first = {person.name: person.group.split(",")[0] for person in PEOPLE}
        passwd = [
            f"{one.name}:{one.in_passwd.replace('HASH', self.password_hash)}:{ids[one.name]}:{groups[first[one.name]]}::{one.home}:{one.shell}"
            for one in PEOPLE
        ]
        shadow = [
            f"{one.name}:{one.hash.replace('HASH', self.password_hash)}:{one.ageing}"
            for one in PEOPLE
            if one.hash is not None
        ]
        system = [
            "sshd:x:100:65534::/run/sshd:/usr/sbin/nologin",
            "nobody:x:65534:65534::/nonexistent:/usr/sbin/nologin",
        ]
        members = {name: [one.name for one in PEOPLE if name in one.group.split(",")] for name in groups}
        lines = [f"{name}:x:{number}:{','.join(members[name])}" for name, number in groups.items()]
        etc = self.root / "etc"
        (etc / "passwd").write_text("\n".join([*passwd, *system]) + "\n")
        (etc / "shadow").write_text("\n".join([*shadow, "sshd:!:20000::::::", "nobody:*:20000::::::"]) + "\n")
        (etc / "group").write_text("\n".join([*lines, "nogroup:x:65534:"]) + "\n")
        for one in PEOPLE:
            self._home(one, ids[one.name])

    def _other_line(self, one: Person) -> str:
        if not one.other_key:
            return ""
        other = self.folder / f"{one.name}-other"
        self._keygen("-t", *one.other_key.split(), "-f", other)
        return other.with_suffix(".pub").read_text()

    def _home(self, one: Person, uid: int) -> None:
        home = self.root / one.home.lstrip("/")
        (home / ".ssh").mkdir(parents=True, exist_ok=True)
        made = [home, home / ".ssh"]
        if one.key:
            key = self.folder / one.name
            self._keygen("-t", *one.key.split(), "-f", key)
            file = self.root / one.file.format(home=one.home, name=one.name).lstrip("/")
            line = (
                self.folder / "ca.pub" if "cert-authority" in one.options else key.with_suffix(".pub")
            ).read_text()
            if not one.certificate or "cert-authority" in one.options:
                file.write_text(one.options + line + self._other_line(one))
                made.append(file)
            if one.certificate:
                span = "20200101:20200201" if one.name == "certold" else "-1d:+10d"
                words = ["-s", self.folder / "ca", "-I", "id", "-n", one.certificate.format(name=one.name)]
                self._keygen(*words, "-V", span, key.with_suffix(".pub"))
                certificate = home / ".ssh/id-cert.pub"
                shutil.copy(self.folder / f"{one.name}-cert.pub", certificate)
                made.append(certificate)
        for place in made:
            os.chown(place, uid, -1)
            place.chmod(0o755 if place.is_dir() else 0o644)
        for path, mode in one.modes.items():
            (self.root / path.format(home=one.home).lstrip("/")).chmod(mode)
        for path, owner in one.owner.items():
            os.chown(self.root / path.format(home=one.home).lstrip("/"), owner, -1)

    def configure(self, text: str) -> str:
        """Write a configuration, which the tests' own lines are no part of, and give these."""
        usual = "" if "UsePAM" in text else "UsePAM yes\n"
        (self.root / "etc/ssh/sshd_config").write_text(text if text.startswith("UsePAM") else usual + text)
        return "MaxStartups 200\nLoginGraceTime 30\nLogLevel INFO\n" + (
            "PerSourcePenalties no\n" if self.version >= (9, 8) else ""
        )

    def reading(self) -> Reading:
        """What is told of it."""
        with ThreadPoolExecutor(1) as workers:
            section = HostSection(read="host", folder=self.root.name)
            request = Request("h", self.root.parent, ZoneInfo("UTC"), datetime.now(UTC), workers)
            (found,) = read(section, request)
        return found


def _output(*words: str) -> str:
    done = subprocess.run(words, capture_output=True, text=True, check=False)
    assert done.returncode == 0, (words, done.stdout, done.stderr)
    return done.stdout.strip()


@pytest.fixture(scope="module", params=["bookworm", "trixie"])
def machine(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Machine]:
    yield Machine(request.param, tmp_path_factory.mktemp("sshd"))


def with_all_columns(frame: pl.DataFrame, table: Table) -> pl.DataFrame:
    """A snapshot gives columns that no source has as well."""
    missing = [column for column in table.columns if column.name not in frame.columns]
    return frame.with_columns(pl.lit(None, dtype=data_type(each)).alias(each.name) for each in missing)


def told_ways(reading: Reading, at: datetime) -> dict[str, dict[str, bool | None]]:
    """Of each account: whether a password, its keys, and both together get in over the network."""
    linked = link([reading], LinkingRules(ZoneInfo("UTC")))
    supply = {told.source: told.supply for told in linked.readings}
    tables = {name: with_all_columns(frame, TABLES[name]) for name, frame in linked.tables.items()}
    context = EvaluationContext(Evidence(tables, supply, {reading.source: at}), at, ZoneInfo("UTC"))
    names = linked.accounts["name"].to_list()
    ways = known_facts(context, WAY_IN).with_columns(row=linked.tables["way-in"][ACCOUNT_ROW])
    # What a signing key lets in is told by the certificates it signed.
    keys = linked.tables["key"].filter(pl.col("scope").str.contains("signs certificates"))
    signing = set(keys["key"]) if keys.height else set()
    told: dict[str, dict[str, list[bool | None]]] = {
        name: {"password": [], "key": [], "together": []} for name in names
    }
    for way in ways.iter_rows(named=True):
        if way["over"] == "console" or way["key"] in signing:
            continue
        alone = "password" if way["takes"] == ["password"] else "key"
        how = "together" if way["by-password"] and way["key"] else alone
        told[names[way["row"]]][how].append(way["open"])
    return {
        name: {
            how: True if True in states else None if None in states else False for how, states in of.items()
        }
        for name, of in told.items()
    }


METHODS = {
    "password": ["password,keyboard-interactive"],
    "key": ["publickey"],
    # Who begins with the wrong one can come to where no list goes on.
    "together": ["publickey,password,keyboard-interactive", "password,keyboard-interactive,publickey"],
}


def ask(machine: Machine, port: int, one: Person, how: str, place: int) -> str:
    """Try to sign in, in one order or the other, and give the address that it was tried from."""
    address = f"127.1.{place // 200 + 1}.{place % 200 + 1}"
    for methods in METHODS[how]:
        _ask(machine, port, one, how, methods, address)
    return address


def _ask(machine: Machine, port: int, one: Person, how: str, methods: str, address: str) -> None:
    words = [program("ssh"), "-F", "/dev/null", "-p", str(port), "-l", one.name, "-T", "-n"]
    options = [
        "StrictHostKeyChecking=no",
        "UserKnownHostsFile=/dev/null",
        f"PreferredAuthentications={methods}",
    ]
    options += [
        "IdentitiesOnly=yes",
        "NumberOfPasswordPrompts=1",
        "ConnectTimeout=20",
        f"BindAddress={address}",
        "IdentityAgent=none",
        "RequiredRSASize=1024",
        "KexAlgorithms=curve25519-sha256",
    ]
    if "key" in how or how == "together":
        options.append(f"IdentityFile={machine.folder / one.name}")
        options += [f"IdentityFile={machine.folder / one.name}-other"] if one.other_key else []
    if one.certificate and how != "password":
        options.append(f"CertificateFile={machine.folder / one.name}-cert.pub")
    if how == "password":
        options.append("PubkeyAuthentication=no")
    for option in options:
        words += ["-o", option]
    secret = machine.folder / "secret.sh"
    environment = {
        "PATH": os.environ["PATH"],
        "SSH_ASKPASS": str(secret),
        "SSH_ASKPASS_REQUIRE": "force",
        "DISPLAY": ":9",
    }
    environment["PLANTED"] = "" if one.hash == "" else PASSWORD
    subprocess.run([*words, "127.0.0.1", "true"], env=environment, capture_output=True, text=True, check=False, timeout=90)  # fmt: skip


@pytest.mark.parametrize("config", CONFIGS)
def test_every_way_that_is_told_is_the_servers_answer(machine: Machine, config: str) -> None:
    """A password, the key, and both one after the other, of each account."""
    extra = machine.configure(CONFIGS[config])
    secret = machine.folder / "secret.sh"
    secret.write_text('#!/bin/sh\nprintf "%s\\n" "$PLANTED"\n')
    secret.chmod(0o755)
    told = told_ways(machine.reading(), datetime.now(UTC))
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    own = machine.root / "etc/ssh/sshd_config.test"
    own.write_text(
        extra
        + f"ListenAddress 127.0.0.1\nPort {port}\nPidFile none\n"
        + (machine.root / "etc/ssh/sshd_config").read_text()
    )
    words = [
        program("chroot"),
        str(machine.root),
        "/usr/sbin/sshd",
        "-D",
        "-e",
        "-f",
        "/etc/ssh/sshd_config.test",
    ]
    log = machine.folder / "log"
    with log.open("w") as out:
        server = subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=out)
    try:
        for _ in range(100):
            try:
                socket.create_connection(("127.0.0.1", port), 1).close()
                break
            except OSError:
                assert server.poll() is None, log.read_text()
                time.sleep(0.05)
        asked = [
            (one, how)
            for one in PEOPLE
            for how in ("password", "key", "together")
            if one.key or how == "password"
        ]
        with ThreadPoolExecutor(32) as workers:
            places = range(len(asked))
            addresses = list(workers.map(lambda place: ask(machine, port, *asked[place], place), places))
    finally:
        server.terminate()
        server.wait(10)
    # What the client believes is not it: the part of the server that has no power may think otherwise.
    let_in = set(re.findall(r"^Accepted \S+ for \S+ from (\S+)", log.read_text(), re.MULTILINE))
    answers = [address in let_in for address in addresses]
    wrong = []
    for (one, how), is_in in zip(asked, answers, strict=True):
        if config == "both by pam" and one.name in ("aged", "agededge", "mustchange"):
            continue  # the new password is asked for in the same conversation, which this client does not hold
        ways = told[one.name]
        # Both together are told only where neither is enough.
        said = ways[how] if how != "together" else ways["together"] or ways["password"] or ways["key"]
        if said is not is_in:
            wrong.append(f"{one.name} by {how}: told {said}, the server: {is_in}")
    assert not wrong, "\n".join(wrong)
