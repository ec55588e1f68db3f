"""What the estate file says of whom reports go to: a mail server, a log server, receivers of events."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import urlsplit

import msgspec

from keymallet.core.base.addresses import is_address
from keymallet.core.base.toml_text import TomlDocument
from keymallet.core.language.literals import parse_span
from keymallet.sources.shared.secret import is_loopback

_PORTS = {"starttls": 587, "tls": 465, "none": 25}
_SYSLOG_TLS = 6514
_PLACE = re.compile(r"(\[[0-9a-fA-F:.]+\]|[^:/\s]+)(?::(\d{1,5}))?")


class MailText(msgspec.Struct, rename="kebab", frozen=True, forbid_unknown_fields=True):
    """`[mail]` as it stands in the file."""

    server: str
    from_: str = msgspec.field(name="from")
    security: str = "starttls"
    user: str = ""
    password_from: str = ""
    ca: str = ""
    within: str = "60s"


class SyslogText(msgspec.Struct, rename="kebab", frozen=True, forbid_unknown_fields=True):
    """`[syslog]` as it stands in the file."""

    server: str
    ca: str = ""
    within: str = "60s"


@dataclass(frozen=True)
class MailPlace:
    """The server that letters are handed to; see `sending.smtp.MailServer`."""

    host: str
    port: int
    security: str
    sender: str
    user: str
    password_from: str
    ca: str
    seconds: float


@dataclass(frozen=True)
class LogPlace:
    """The server that log messages are handed to, over TLS."""

    host: str
    port: int
    ca: str
    seconds: float


class EventsText(msgspec.Struct, rename="kebab", frozen=True, forbid_unknown_fields=True):
    """`[events]` as it stands in the file."""

    issuer: str
    sign_with: str
    audience: tuple[str, ...] = ()


@dataclass(frozen=True)
class EventsPlace:
    """Who issues security event tokens, for whom, and where the key is that signs them."""

    issuer: str
    sign_with: str
    audience: tuple[str, ...]


def events_place(document: TomlDocument, written: EventsText | None) -> EventsPlace | None:
    """Who issues tokens, checked; None where nobody does."""
    if written is None:
        return None
    parts = urlsplit(written.issuer)
    if parts.scheme != "https" or not parts.netloc or parts.query or parts.fragment:
        hint = 'issuer = "https://identity.ferries.example/"'
        document.fault(("events", "issuer"), f'"{written.issuer}" is no address of an issuer', hint)
    return EventsPlace(written.issuer, written.sign_with, written.audience)


def mail_place(document: TomlDocument, written: MailText | None, folder: Path) -> MailPlace | None:
    """The mail server, checked; None where there is none."""
    if written is None:
        return None
    if written.security not in _PORTS:
        hint = f"there are: {', '.join(_PORTS)}"
        document.fault(("mail", "security"), f'the way to it cannot be "{written.security}"', hint)
    host, port = _host(document, "mail", written.server, _PORTS.get(written.security, 0))
    if written.security == "none" and host and not is_loopback(host):
        hint = 'security = "starttls" or "tls"; "none" is for a server on this machine'
        document.fault(("mail", "security"), "letters say who falls short: they need a private way", hint)
    if not is_address(written.from_):
        document.fault(("mail", "from"), f'"{written.from_}" is no mail address', "name@host")
    if bool(written.user) != bool(written.password_from):
        key = "user" if written.user else "password-from"
        hint = 'user = "…" and password-from = "env:NAME" or "file:PATH"'
        document.fault(("mail", key), "a user and where the password is belong together", hint)
    return MailPlace(
        host,
        port,
        written.security,
        written.from_,
        written.user,
        written.password_from,
        str(folder / written.ca) if written.ca else "",
        _seconds(document, "mail", written.within),
    )


def log_place(document: TomlDocument, written: SyslogText | None, folder: Path) -> LogPlace | None:
    """The log server, checked; None where there is none."""
    if written is None:
        return None
    host, port = _host(document, "syslog", written.server, _SYSLOG_TLS)
    ca = str(folder / written.ca) if written.ca else ""
    return LogPlace(host, port, ca, _seconds(document, "syslog", written.within))


def _host(document: TomlDocument, section: str, text: str, port: int) -> tuple[str, int]:
    found = _PLACE.fullmatch(text)
    if found is None or not 0 < int(found[2] or port or 1) < 65536:
        document.fault((section, "server"), f'"{text}" is no host', '"mail.ferries.example", or with ":587"')
        return "", port
    return found[1].strip("[]"), int(found[2] or port)


def _seconds(document: TomlDocument, section: str, text: str) -> float:
    span = parse_span(text)
    if span is None or span.total_seconds() <= 0:
        document.fault((section, "within"), f'"{text}" is no length of time', '"30s", "2min"')
        return 60.0
    return span.total_seconds()
