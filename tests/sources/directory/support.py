"""Reading an LDIF text, and a real directory server of our own on a loopback port."""

from __future__ import annotations

import base64
import os
import shutil
import socket
import subprocess
import time
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from urllib.parse import quote

import msgspec

from keymallet.core.facts.reading import Reading
from keymallet.sources.directory import ldif
from keymallet.sources.request import Request
from keymallet.sources.sections import LdifSection
from tests.certificates import make_certificates
from tests.oracles import install, needs_root, program
from tests.support import AT, CLOCK, write

BASE = "dc=gvr,dc=example"
ROOT = "gidNumber=0+uidNumber=0,cn=peercred,cn=external,cn=auth"
"""Who root is over the socket."""


def read_ldif(folder: Path, text: str | bytes, **options: Any) -> Reading:
    """Interpret an LDIF text as it stood at AT."""
    write(folder, {"dump.ldif": text})
    section = msgspec.convert({"read": "ldif", "files": "dump.ldif", **options}, LdifSection)
    with ThreadPoolExecutor(1) as workers:
        (reading,) = ldif.read(section, Request("dir", folder, CLOCK, AT, workers))
    return reading


def entry(dn: str, **values: Any) -> str:
    """An entry as LDIF: a value is text, bytes, or a list of them; underscores stand for hyphens."""
    lines = [f"dn:: {base64.b64encode(dn.encode()).decode()}"]
    for name, given in values.items():
        for value in given if isinstance(given, list) else [given]:
            data = value if isinstance(value, bytes) else str(value).encode()
            lines.append(f"{name.replace('_', '-')}:: {base64.b64encode(data).decode()}")
    return "\n".join(lines) + "\n\n"


def person(uid: str, **values: Any) -> str:
    """An account."""
    return entry(
        f"uid={uid},ou=people,{BASE}", objectClass=["inetOrgPerson"], uid=uid, cn=uid, sn=uid, **values
    )


def stamp(instant: datetime) -> str:
    """An instant as generalized time."""
    return f"{instant.astimezone(UTC):%Y%m%d%H%M%SZ}"


def rows(reading: Reading, table: str = "account") -> dict[str, dict[str, Any]]:
    """The rows of a table by the account they are of, or are."""
    key = "name" if table == "account" else reading.tables[table].columns[0]
    return {row[key]: row for row in reading.tables[table].iter_rows(named=True)}


class Server:
    """slapd with the password policy overlay, on a port of its own, with its data in a folder."""

    root = f"cn=admin,{BASE}"
    password = "planted-Secret-4711"

    def __init__(self, folder: Path, more_schema: str = "") -> None:
        needs_root("a directory server of our own")
        self.folder = folder
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            self.port = probe.getsockname()[1]
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            self.tls_port = probe.getsockname()[1]
        make_certificates(self.folder)
        (folder / "db").mkdir()
        schema = "/etc/ldap/schema"
        (folder / "slapd.conf").write_text(
            "".join(
                f"include {schema}/{name}.schema\n" for name in ("core", "cosine", "nis", "inetorgperson")
            )
            + more_schema
            + f"""
modulepath /usr/lib/ldap
moduleload back_mdb
moduleload ppolicy
moduleload memberof
TLSCACertificateFile {folder}/ca.pem
TLSCertificateFile {folder}/server.pem
TLSCertificateKeyFile {folder}/server.key
pidfile {folder}/pid
database mdb
suffix "{BASE}"
rootdn "{self.root}"
rootpw {self.password}
directory {folder}/db
lastbind on
limits dn.exact="cn=reader,{BASE}" size.soft=unlimited size.hard=unlimited size.prtotal=unlimited
limits dn.exact="cn=narrow,{BASE}" size.soft=5 size.hard=5 size.prtotal=5
access to attrs=userPassword by self =xw by anonymous auth by dn.exact="cn=reader,{BASE}" search by dn.exact="{ROOT}" search by * none
access to * by dn.exact="cn=reader,{BASE}" read by dn.exact="{ROOT}" read by dn.exact="cn=narrow,{BASE}" read by self read by users search by anonymous auth
overlay ppolicy
ppolicy_default "cn=default,ou=policies,{BASE}"
ppolicy_use_lockout
overlay memberof
"""
        )
        binary = _slapd()
        words = [binary, "-d", "0", "-f", str(folder / "slapd.conf"), "-h"]
        words.append(f"ldap://127.0.0.1:{self.port}/ ldaps://127.0.0.1:{self.tls_port}/ {self.socket_url}/")
        self.process = subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
        for _ in range(100):
            try:
                socket.create_connection(("127.0.0.1", self.port), 1).close()
                return
            except OSError:
                if self.process.poll() is not None:
                    raise AssertionError(self.process.stderr.read().decode()) from None  # type: ignore[union-attr]
                time.sleep(0.1)
        raise AssertionError("slapd does not answer")

    @property
    def url(self) -> str:
        return f"ldap://127.0.0.1:{self.port}"

    @property
    def socket_url(self) -> str:
        return f"ldapi://{quote(str(self.folder / 'socket'), safe='')}"

    @property
    def tls_url(self) -> str:
        return f"ldaps://127.0.0.1:{self.tls_port}"

    def add(self, text: str) -> None:
        """Load entries."""
        self.tool("ldapadd", text)

    def modify(self, text: str, *more: str) -> None:
        """Change entries, with operational attributes where the Relax control is among `more`."""
        self.tool("ldapmodify", text, *more)

    def tool(self, name: str, text: str = "", *more: str, who: str = "", password: str = "") -> str:
        """Run one of the directory's own tools as its administrator, or as somebody."""
        words = [
            program(name),
            "-x",
            "-H",
            self.url,
            "-D",
            who or self.root,
            "-w",
            password or self.password,
            *more,
        ]
        done = subprocess.run(words, input=text, capture_output=True, text=True, check=False)
        assert done.returncode == 0, (words, done.stdout, done.stderr)
        return done.stdout

    def sign_in(self, uid: str, password: str) -> str:
        """What the server answers to a sign-in: ok, or the reason of the password policy."""
        words = [program("ldapwhoami"), "-x", "-H", self.url, "-e", "ppolicy"]
        words += ["-D", f"uid={uid},ou=people,{BASE}", "-w", password]
        done = subprocess.run(words, capture_output=True, text=True, check=False)
        told = done.stdout + done.stderr
        if "grace logins remain" in told:
            return "ok"
        reasons = {
            "Account locked": "locked",
            "Password expired": "expired",
            "Password must be changed": "must change",
        }
        for text, word in reasons.items():
            if text in told:
                return word
        return "ok" if done.returncode == 0 else "refused"

    def takes_password(self, uid: str, password: str, new: str) -> bool:
        """Whether it lets somebody set this as the new password."""
        words = [program("ldappasswd"), "-x", "-H", self.url, "-D", f"uid={uid},ou=people,{BASE}"]
        words += ["-w", password, "-a", password, "-s", new]
        return subprocess.run(words, capture_output=True, check=False).returncode == 0

    def stop(self) -> None:
        self.process.terminate()
        self.process.wait(10)


def _slapd() -> str:
    found = shutil.which("slapd", path=os.pathsep.join(("/usr/sbin", os.environ.get("PATH", ""))))
    if found is None:
        install("slapd")
        found = shutil.which("slapd", path="/usr/sbin")
    assert found is not None
    return found
