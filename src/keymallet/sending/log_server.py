"""Syslog messages handed to a log server over TLS (RFC 5425)."""

from __future__ import annotations

import socket
import ssl
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass

from keymallet.core.base.bounded import within
from keymallet.core.base.printable import plain
from keymallet.core.base.problems import KeymalletError, fail


@dataclass(frozen=True)
class LogServer:
    """A server that takes messages over TLS, with the certificates that are trusted if not the system's."""

    host: str
    port: int
    ca: str = ""
    seconds: float = 60.0

    @property
    def said(self) -> str:
        """How it is named in messages."""
        return f"{self.host}:{self.port}"


def send(server: LogServer, messages: Sequence[str]) -> None:
    """Hand over all messages. Raises KeymalletError if they could not be, and how many may have arrived.

    The protocol has no receipt: that all was written, and the connection was not broken, is all there is to
    know.
    """
    sent = [0]

    def late() -> BaseException:
        return _failed(server, f"it took more than {server.seconds:g} s", sent[0], len(messages))

    within(server.seconds, lambda: _send(server, messages, sent), late)


def _send(server: LogServer, messages: Sequence[str], sent: list[int]) -> None:
    try:
        trust = ssl.create_default_context(cafile=server.ca or None)
    except (ssl.SSLError, OSError) as error:
        raise fail(f"its certificates cannot be read: {error}", file=server.ca) from None
    try:
        with (
            socket.create_connection((server.host, server.port), timeout=server.seconds) as raw,
            trust.wrap_socket(raw, server_hostname=server.host) as private,
        ):
            for message in messages:
                data = message.encode()
                private.sendall(f"{len(data)} ".encode() + data)
                sent[0] += 1
            # Some servers hang up as soon as we said goodbye, without a goodbye of their own.
            with suppress(ssl.SSLEOFError):
                private.unwrap()
    except ssl.SSLCertVerificationError as error:
        said = f"its certificate is not trusted: {error.verify_message}"
        raise _failed(server, said, sent[0], len(messages)) from None
    except OSError as error:
        said = plain(error.strerror or str(error) or "the connection broke")
        raise _failed(server, said, sent[0], len(messages)) from None


def _failed(server: LogServer, said: str, sent: int, number: int) -> KeymalletError:
    how_far = f"{sent:,} of {number:,} messages were handed over" if sent else "nothing was sent"
    return fail(f"the log server {server.said}: {said}; {how_far}", hint="[syslog] in the estate file")
