"""Mail handed to a server (RFC 5321), over TLS as the server is said to offer it."""

from __future__ import annotations

import smtplib
import ssl
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from functools import partial

from keymallet.core.base.bounded import within
from keymallet.core.base.printable import plain
from keymallet.core.base.problems import KeymalletError, fail
from keymallet.sending.outcome import Fate, Outcome

STARTTLS, TLS, NONE = "starttls", "tls", "none"
_OK = (250, 251)


@dataclass(frozen=True)
class MailServer:
    """A server that takes mail: where it is, how the way to it is kept private, and who we are to it.

    `security` is one of STARTTLS, TLS and NONE. `ca` is a file of certificates that are trusted, if not those
    of the system. No letter takes longer than `seconds`.
    """

    host: str
    port: int
    security: str
    sender: str
    user: str = ""
    password: str = ""
    ca: str = ""
    seconds: float = 60.0

    @property
    def said(self) -> str:
        """How it is named in messages."""
        return f"{self.host}:{self.port}"


@dataclass(frozen=True)
class Mail:
    """A letter, and the one address it goes to."""

    to: str
    data: bytes


class Connection:
    """A connection that is made when it is needed, and made anew after one broke."""

    def __init__(self, server: MailServer) -> None:
        self.server = server
        self._smtp: smtplib.SMTP | None = None

    def open(self) -> smtplib.SMTP:
        """The connection, greeted, private and signed in. Raises KeymalletError if it cannot be that."""
        if self._smtp is None:
            self._smtp = self._opened()
        return self._smtp

    def close(self) -> None:
        """Say goodbye, if there is anybody to say it to."""
        if self._smtp is not None:
            smtp, self._smtp = self._smtp, None
            try:
                smtp.quit()
            except (smtplib.SMTPException, OSError):
                smtp.close()

    def drop(self) -> None:
        """Forget a connection that broke."""
        if self._smtp is not None:
            smtp, self._smtp = self._smtp, None
            smtp.close()

    def _opened(self) -> smtplib.SMTP:
        server = self.server
        try:
            trust = ssl.create_default_context(cafile=server.ca or None)
        except (ssl.SSLError, OSError) as error:
            raise fail(f"its certificates cannot be read: {error}", file=server.ca) from None
        smtp: smtplib.SMTP | None = None
        try:
            if server.security == TLS:
                smtp = smtplib.SMTP_SSL(server.host, server.port, timeout=server.seconds, context=trust)
            else:
                smtp = smtplib.SMTP(server.host, server.port, timeout=server.seconds)
            smtp.ehlo_or_helo_if_needed()
            if server.security == STARTTLS:
                if not smtp.has_extn("starttls"):
                    raise self._failed("it does not offer STARTTLS, so nothing was said to it")
                smtp.starttls(context=trust)
                smtp.ehlo()
            if server.user:
                self._sign_in(smtp)
        except (smtplib.SMTPException, OSError, ValueError) as error:
            if smtp is not None:
                smtp.close()
            raise self._failed(self._reason(error)) from None
        except KeymalletError:
            if smtp is not None:
                smtp.close()
            raise
        return smtp

    def _sign_in(self, smtp: smtplib.SMTP) -> None:
        """Sign in the first way that both know; a server that says no is not asked once more in another."""
        offered = smtp.esmtp_features.get("auth", "").upper().split()
        smtp.user, smtp.password = self.server.user, self.server.password
        for name, answer in (("PLAIN", smtp.auth_plain), ("LOGIN", smtp.auth_login)):
            if name in offered:
                smtp.auth(name, answer)
                return
        raise self._failed("it offers neither PLAIN nor LOGIN to sign in with")

    def failed_late(self) -> KeymalletError:
        """That it did not answer in time."""
        return self._failed(f"no answer within {self.server.seconds:g} s")

    def _failed(self, said: str) -> KeymalletError:
        return fail(
            f"the mail server {self.server.said}: {said}", hint="nothing was sent; [mail] in the estate file"
        )

    def _reason(self, error: Exception) -> str:
        return said_by(error, self.server.password)


def send_all(server: MailServer, letters: Iterable[Mail]) -> Iterator[Outcome]:
    """Hand over one letter after the other, and say of each what became of it.

    Raises KeymalletError at the first letter if the server cannot be reached, or its word not be trusted.
    """
    connection = Connection(server)
    try:
        for place, letter in enumerate(letters):
            try:
                within(server.seconds, connection.open, connection.failed_late)
                yield within(server.seconds, partial(_send, connection, letter), _LateError)
            except _LateError:
                connection.drop()
                yield Outcome(Fate.IN_DOUBT, f"no answer within {server.seconds:g} s")
            except KeymalletError as error:
                if place == 0:
                    raise
                yield Outcome(Fate.FAILED, error.problems[0].message)
    finally:
        connection.close()


class _LateError(Exception):
    """It took too long."""


def _send(connection: Connection, letter: Mail) -> Outcome:
    server = connection.server
    smtp = connection.open()
    try:
        smtp.rset()
        for code, answer in (smtp.mail(server.sender), smtp.rcpt(letter.to)):
            if code not in _OK:
                return Outcome(Fate.FAILED, _told(code, answer))
    except (smtplib.SMTPException, OSError) as error:
        connection.drop()
        return Outcome(Fate.FAILED, said_by(error, server.password))
    try:
        code, answer = smtp.data(letter.data)
    except smtplib.SMTPDataError as error:
        return Outcome(Fate.FAILED, _told(error.smtp_code, error.smtp_error))
    except (smtplib.SMTPException, OSError) as error:
        # The server may have taken it before it fell silent.
        connection.drop()
        return Outcome(Fate.IN_DOUBT, said_by(error, server.password))
    if code != _OK[0]:
        return Outcome(Fate.FAILED, _told(code, answer))
    return Outcome(Fate.SENT)


def _told(code: int, answer: bytes | str) -> str:
    text = answer.decode(errors="replace") if isinstance(answer, bytes) else answer
    return plain(f"{code} {' '.join(text.split())[:200]}".strip())


def said_by(error: Exception, secret: str) -> str:
    """What an error says, without the secret should the server have repeated it."""
    if isinstance(error, smtplib.SMTPResponseException):
        said = _told(error.smtp_code, error.smtp_error)
    elif isinstance(error, ssl.SSLCertVerificationError):
        said = f"its certificate is not trusted: {error.verify_message}"
    elif isinstance(error, TimeoutError):
        said = "no answer in time"
    elif isinstance(error, OSError):
        said = plain(error.strerror or str(error))
    else:
        said = plain(str(error)[:200])
    return said.replace(secret, "…") if len(secret) > 3 else said
