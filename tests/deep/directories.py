"""Two more directory servers of our own, installed from the system's packages, on loopback addresses."""

from __future__ import annotations

import base64
import fcntl
import hashlib
import os
import re
import shutil
import socket
import ssl
import subprocess
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, ClassVar

import ldap3
import msgspec

from keymallet.core.facts.reading import Reading
from keymallet.sources.directory import ldap
from keymallet.sources.request import Request
from keymallet.sources.sections import LdapSection
from tests.oracles import PLACES, install, missing, needs_root
from tests.support import CLOCK

BASE = "dc=gvr,dc=example"
ROOT_PASSWORD = "planted-Secret-4711"
PASSWORD = "Planted-Secret-0815"


class DirectoryServer:
    """A server that runs in a process of ours: how it is changed, asked and read."""

    url: str
    root: str
    process: subprocess.Popen[bytes]

    def connect(self, who: str, password: str) -> ldap3.Connection:
        """A connection that has tried to sign in; `result` says with what success."""
        tls = ldap3.Tls(validate=ssl.CERT_NONE)
        server = ldap3.Server(self.url, tls=tls, get_info=ldap3.NONE, connect_timeout=10)
        connection = ldap3.Connection(server, user=who, password=password, receive_timeout=20)
        connection.bind(controls=[("1.3.6.1.4.1.42.2.27.8.5.1", False, None)])
        return connection

    def wait(self) -> None:
        """Until it lets its administrator in."""
        for _ in range(150):
            with suppress(Exception):
                self.admin = self.connect(self.root, ROOT_PASSWORD)
                if self.admin.bound:
                    return
            if self.process.poll() is not None:
                break
            time.sleep(0.2)
        missing(f"the directory server at {self.url} does not come up")

    def add(self, dn: str, classes: list[str], **values: Any) -> None:
        """Make an entry; underscores stand for hyphens."""
        given = {name.replace("_", "-"): value for name, value in values.items()}
        assert self.admin.add(dn, classes, given), (dn, self.admin.result)

    def set(self, dn: str, **values: Any) -> None:
        """Replace values of an entry; None takes them away."""
        changes = {
            name.replace("_", "-"): [(ldap3.MODIFY_REPLACE, [] if value is None else [value])]
            for name, value in values.items()
        }
        assert self.admin.modify(dn, changes), (dn, values, self.admin.result)

    def read(self, folder: Path, **options: Any) -> Reading:
        """Read it as an estate's section would."""
        os.environ["TEST_DIRECTORY_PASSWORD"] = ROOT_PASSWORD
        usual = {"read": "ldap", "url": self.url, "base": BASE, "bind-dn": self.root}
        usual |= {"password-from": "env:TEST_DIRECTORY_PASSWORD", "verify-certificate": False}
        section = msgspec.convert(usual | options, LdapSection)
        with ThreadPoolExecutor(1) as workers:
            (reading,) = ldap.read(section, Request("dir", folder, CLOCK, datetime.now(UTC), workers))
        return reading

    def stop(self) -> None:
        """End it."""
        self.process.terminate()
        with suppress(subprocess.TimeoutExpired):
            self.process.wait(20)
        self.process.kill()


def _binary(name: str, *packages: str) -> str:
    needs_root("a directory server of our own")
    found = shutil.which(name, path=PLACES)
    if found is None:
        for package in packages:
            install(package)
        found = shutil.which(name, path=PLACES)
    return found or missing(f"{name} is not here, though its package is")


class LockServer(DirectoryServer):
    """389 Directory Server: attributes beside nsAccountLock."""

    root = "cn=Directory Manager"
    people = f"ou=people,{BASE}"
    policies = f"ou=policies,{BASE}"
    plugin = "cn=Account Policy Plugin,cn=plugins,cn=config"

    def __init__(self, folder: Path) -> None:
        program = _binary("ns-slapd", "389-ds-base")
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            port = probe.getsockname()[1]
        self.url = f"ldap://127.0.0.1:{port}"
        self.name = f"kmtest{port}"
        answers = folder / "answers.inf"
        answers.write_text(
            "[general]\nconfig_version = 2\nfull_machine_name = localhost\nselinux = False\nsystemd = False\n"
            f"start = False\nstrict_host_checking = False\n[slapd]\ninstance_name = {self.name}\n"
            f"port = {port}\nroot_password = {ROOT_PASSWORD}\nself_sign_cert = True\n"
        )
        creator = _binary("dscreate", "389-ds-base")
        # It wants to start the server through the system's services, which need not run: the files are made.
        subprocess.run([creator, "from-file", str(answers)], capture_output=True, check=False)
        own = Path(f"/etc/dirsrv/slapd-{self.name}")
        settings = own / "dse.ldif"
        if not settings.is_file():
            missing("dscreate made no instance")
        salt = b"salt"
        digest = base64.b64encode(hashlib.sha1(ROOT_PASSWORD.encode() + salt).digest() + salt).decode()
        text = re.sub(
            r"nsslapd-rootpw: .*\n(?: .*\n)*", f"nsslapd-rootpw: {{SSHA}}{digest}\n", settings.read_text()
        )
        text = re.sub(r"(nsslapd-rootdn: .*\n)", r"\1nsslapd-listenhost: 127.0.0.1\n", text, count=1)
        text = re.sub(r"(dn: cn=Account Policy Plugin,cn=plugins,cn=config\n(?:.+\n)*?nsslapd-pluginEnabled: )off",
                      r"\1on", text)  # fmt: skip
        settings.write_text(text)
        for place in ("/run/dirsrv", "/run/lock/dirsrv"):
            Path(place).mkdir(parents=True, exist_ok=True)
            shutil.chown(place, "dirsrv", "dirsrv")
        words = [program, "-D", str(own), "-i", f"/run/dirsrv/slapd-{self.name}.pid", "-d", "0"]
        self.process = subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        self.wait()
        self._prepare()

    def _prepare(self) -> None:
        backend = {"nsslapd_suffix": BASE, "cn": "own"}
        self.add(
            "cn=own,cn=ldbm database,cn=plugins,cn=config",
            ["extensibleObject", "nsBackendInstance"],
            **backend,
        )
        self.add(
            r"cn=dc\3Dgvr\2Cdc\3Dexample,cn=mapping tree,cn=config",
            ["extensibleObject", "nsMappingTree"],
            cn=BASE,
            nsslapd_state="backend",
            nsslapd_backend="own",
        )
        self.add(BASE, ["domain"], dc="gvr")
        for unit in ("people", "policies", "groups"):
            self.add(f"ou={unit},{BASE}", ["organizationalUnit"], ou=unit)

    def policy(self, name: str, **values: Any) -> str:
        """A password policy of its own, and its name."""
        dn = f"cn={name},{self.policies}"
        self.add(dn, ["ldapsubentry", "passwordPolicy", "extensibleObject"], cn=name, **values)
        return dn

    def person(self, uid: str, **values: Any) -> str:
        """An account, and its name."""
        dn = f"uid={uid},{self.people}"
        self.add(dn, ["inetOrgPerson"], uid=uid, cn=uid, sn=uid, userPassword=PASSWORD)
        if values:
            self.set(dn, **values)
        return dn

    def sign_in(self, uid: str, password: str = PASSWORD) -> str:
        """What it answers to a sign-in."""
        connection = self.connect(f"uid={uid},{self.people}", password)
        told = str(connection.result.get("message"))
        if connection.result["result"] == 0:
            # Whether a change is asked for shows at the first thing that is done.
            connection.search(BASE, "(objectClass=*)", ldap3.BASE)
            return "must change" if connection.result["result"] == 53 else "ok"
        if "password expired" in told:
            return "expired"
        return "locked" if re.search("retry limit|inactivated|inactivity", told) else "refused"

    def takes_password(self, uid: str, password: str, new: str) -> bool:
        """Whether it lets somebody set this as the new password."""
        aci = '(targetattr="userPassword")(version 3.0; acl "own"; allow (write) userdn="ldap:///self";)'
        self.admin.modify(BASE, {"aci": [(ldap3.MODIFY_ADD, [aci])]})  # twice changes nothing
        dn = f"uid={uid},{self.people}"
        connection = self.connect(dn, password)
        return bool(connection.modify(dn, {"userPassword": [(ldap3.MODIFY_REPLACE, [new])]}))

    def stop(self) -> None:
        super().stop()
        for place in ("/etc/dirsrv", "/var/lib/dirsrv", "/var/log/dirsrv"):
            shutil.rmtree(f"{place}/slapd-{self.name}", ignore_errors=True)


class ControlServer(DirectoryServer):
    """Samba as a domain controller: attributes around userAccountControl."""

    address = "127.0.0.77"
    url = f"ldaps://{address}:636"
    root = "administrator@gvr.example"
    people = f"CN=Users,{BASE}"
    answers: ClassVar[dict[str, str]] = {
        "data 775": "locked",
        "data 533": "disabled",
        "data 773": "must change",
        "data 701": "ended",
        "data 532": "expired",
        "data 52e": "refused",
    }

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        # Its address is one: whoever else wants it, in another process, waits.
        self.held = (Path(tempfile.gettempdir()) / "keymallet-control-server.lock").open("w")
        fcntl.flock(self.held, fcntl.LOCK_EX)
        # The suggested packages hold the schema and the modules of the database.
        program = _binary("samba", "samba-ad-dc", "samba-ad-provision", "samba-dsdb-modules")
        words = [_binary("samba-tool", "samba"), "domain", "provision", "--realm=GVR.EXAMPLE", "--domain=GVR"]
        words += [f"--adminpass={ROOT_PASSWORD}", "--server-role=dc", "--dns-backend=NONE", "--use-rfc2307"]
        words += [f"--targetdir={folder}/dc", "--host-name=dc1", f"--host-ip={self.address}"]
        done = subprocess.run(words, capture_output=True, text=True, check=False)
        if done.returncode:
            missing(f"no domain was made: {done.stderr[-300:]}")
        settings = folder / "dc/etc/smb.conf"
        text = re.sub(r"\tserver services = .*\n", "", settings.read_text())
        own = f"[global]\n\tinterfaces = {self.address}/8\n\tbind interfaces only = yes\n\tserver services = ldap\n"
        settings.write_text(text.replace("[global]\n", own, 1))
        words = [program, "-s", str(settings), "-i", "-M", "single", "--no-process-group"]
        self.process = subprocess.Popen(
            words, stdin=subprocess.PIPE, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        )
        self.wait()

    def person(self, name: str, flags: int = 512, kind: str = "user", **values: Any) -> str:
        """An account, and its name."""
        dn = f"CN={name},{self.people}"
        self.add(dn, [kind], sAMAccountName=name, userAccountControl=546)
        self.set(dn, unicodePwd=f'"{PASSWORD}"'.encode("utf-16-le"))
        self.set(dn, userAccountControl=flags)
        if values:
            self.set(dn, **values)
        return dn

    def policy(self, name: str, *held_by: str, **values: Any) -> str:
        """A password settings object that holds for some, and its name."""
        dn = f"CN={name},CN=Password Settings Container,CN=System,{BASE}"
        usual = {
            "PasswordSettingsPrecedence": 10,
            "PasswordReversibleEncryptionEnabled": "FALSE",
            "PasswordHistoryLength": 5,
            "PasswordComplexityEnabled": "FALSE",
            "MinimumPasswordLength": 9,
            "MinimumPasswordAge": 0,
            "MaximumPasswordAge": -(2**63),
            "LockoutThreshold": 0,
            "LockoutObservationWindow": -18_000_000_000,
            "LockoutDuration": -18_000_000_000,
        }
        given = {f"msDS-{key}": value for key, value in (usual | values).items()}
        self.add(dn, ["msDS-PasswordSettings"], **given)
        for member in held_by:
            assert self.admin.modify(dn, {"msDS-PSOAppliesTo": [(ldap3.MODIFY_ADD, [member])]}), (
                self.admin.result
            )
        return dn

    def set_raw(self, dn: str, **values: Any) -> None:
        """Replace values in the database itself, past all that the server would not let anybody do."""
        database = next((self.folder / "dc/private/sam.ldb.d").glob("DC=GVR*"))
        lines = [f"replace: {name}\n{name}: {value}\n" for name, value in values.items()]
        change = f"dn: {dn}\nchangetype: modify\n" + "-\n".join(lines)
        words = [_binary("ldbmodify", "ldb-tools"), "-H", f"tdb://{database}"]
        done = subprocess.run(words, input=change, capture_output=True, text=True, check=False)
        assert done.returncode == 0, done.stderr

    def sign_in(self, name: str, password: str = PASSWORD) -> str:
        """What it answers to a sign-in."""
        connection = self.connect(f"{name}@gvr.example", password)
        if connection.result["result"] == 0:
            return "ok"
        told = str(connection.result.get("message"))
        return next((word for text, word in self.answers.items() if text in told), told)

    def stop(self) -> None:
        super().stop()
        self.held.close()
