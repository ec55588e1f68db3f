"""An estate whose letters are sent, and mail servers of several tempers."""

from __future__ import annotations

import socket
import ssl
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP, AuthResult, Envelope, Session

from tests.support import run, write

AT = ("--at", "2026-11-24T09:00Z")
PASSWORD = "pass-the-salt"
SEND = ("report", "--format", "letter", "--each", "answerer", "--send")

ESTATE = """organisation = "Mill Lane Bakery"
clock = "UTC"
rulebook = "b.toml"
logbook = "logbook"
[source.d]
read = "csv"
map = "d.toml"
files = { account = "d.csv" }
persons = "staff"
[source.staff]
read = "csv"
map = "staff.toml"
files = { person = "staff.csv" }
[[answers]]
by = "manager"
[[answers]]
by = "oven desk"
"""


def bakery(folder: Path, accounts: str = "ida,1,n\\njon,2,n\\nkim,3,n\\nlea,9,n\\n") -> Path:
    """Four accounts of three answerers: Mia Crumb, Ned Dough (both of the roster), and a desk without address."""
    write(
        folder,
        {
            "estate.toml": ESTATE,
            "d.toml": '[account.columns]\nname = "n"\nperson = "p"\nenabled = { from = "e", true = ["y"], false = ["n"] }\n',
            "d.csv": "n,p,e\n" + accounts.replace("\\n", "\n"),
            "staff.toml": '[person.columns]\nperson = "no"\nname = "name"\nmail = "mail"\nmanager = "boss"\n'
            'status = { from = "s", words = { here = "present", gone = "left" } }\n',
            "staff.csv": "no,name,mail,boss,s\n1,Ida Rye,,7,here\n2,Jon Oat,,7,here\n3,Kim Bran,,8,here\n"
            "7,Mia Crumb,mia@bakery.example,,here\n8,Ned Dough,ned@bakery.example,,here\n",
            "b.toml": 'title = "T"\n[mend-within]\nhigh = "7d"\n[rule.on]\ntitle = "All are on"\nmust = "enabled"\nseverity = "high"\n',
        },
    )
    run("read", *AT, cwd=folder)
    run("judge", *AT, "--record", cwd=folder, expect=1)
    return folder


def with_mail(folder: Path, port: int, *more: str, security: str = "none") -> Path:
    """The same with a mail server on this machine."""
    lines = [
        f'server = "127.0.0.1:{port}"',
        f'security = "{security}"',
        'from = "identity@bakery.example"',
        *more,
    ]
    text = "\n".join(["[mail]", *lines, "", ""])
    (folder / "estate.toml").write_text(ESTATE.replace("[source.d]", text + "[source.d]"), "utf-8")
    return folder


class Taking:
    """A server's part: what it took, and how it answers."""

    def __init__(self) -> None:
        self.taken: list[tuple[str, bytes]] = []
        self.refused: tuple[str, ...] = ()
        self.answer = "250 taken"
        self.wait = 0.0
        self.hangs_up = False

    async def handle_RCPT(
        self, server: SMTP, session: Session, envelope: Envelope, address: str, options: list[str]
    ) -> str:
        if address in self.refused:
            return "550 there is nobody of that name here"
        envelope.rcpt_tos.append(address)
        return "250 known"

    async def handle_DATA(self, server: SMTP, session: Session, envelope: Envelope) -> str:
        if self.wait:
            time.sleep(self.wait)
        assert isinstance(envelope.content, bytes)
        if self.answer.startswith("250"):
            self.taken.append((envelope.rcpt_tos[0], envelope.content))
        if self.hangs_up:
            assert server.transport is not None
            server.transport.abort()
        return self.answer


@contextmanager
def mail_server(part: Taking, certificates: Path | None = None, **more: Any) -> Iterator[int]:
    """A server on this machine, and its port; with certificates it offers STARTTLS."""
    if certificates is not None:
        trust = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
        trust.load_cert_chain(certificates / "server.pem", certificates / "server.key")
        more["tls_context"] = trust
    controller = Controller(part, hostname="127.0.0.1", port=0, **more)
    controller.port = free_port()
    controller.start()
    try:
        yield controller.port
    finally:
        controller.stop()


def signed_in(server: SMTP, session: Session, envelope: Envelope, mechanism: str, data: Any) -> AuthResult:
    """Whether it is who it says."""
    known = data.login == b"keymallet" and data.password == PASSWORD.encode()
    return AuthResult(success=known, handled=known)


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])
