"""`authorized_keys`: the keys that open an account, with their options (sshd(8)).

Measured: an unknown option, a value without quotes, or a blank after a comma costs the whole line;
option names may be in capitals; of two `expiry-time` the earlier counts, and the key still works in the
very second it names. A time without `Z` is the host's local time; a day alone is over as it begins.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.secrecy import quoted
from keymallet.sources.shared.public_keys import NoKeyError, PublicKey, read_key

_BARE = frozenset(
    "agent-forwarding no-agent-forwarding cert-authority no-port-forwarding port-forwarding no-pty pty"
    " no-touch-required verify-required no-user-rc user-rc no-x11-forwarding x11-forwarding restrict".split()
)
_WITH_VALUE = frozenset(
    "command environment expiry-time from permitlisten permitopen principals tunnel".split()
)
_OPTION = re.compile(r'([A-Za-z0-9-]+)(?:="((?:[^"\\]|\\.)*)")?(,(?=\S)|(?=[ \t]))')
_TIME = re.compile(r"(\d{4})(\d\d)(\d\d)(?:(\d\d)(\d\d)(\d\d)?)?(Z)?")
_MOST_SCOPE = 200  # characters


class RefusedLineError(ValueError):
    """A line the server does not take; the message says why."""


@dataclass(frozen=True, slots=True)
class AuthorizedKey:
    """A line of the file. `principals`: the login names a signing key stands for; None: the account's.

    `is_limited`: it opens one command only.
    """

    key: PublicKey
    comment: str
    scope: str
    expires: datetime | None
    signs: bool
    principals: tuple[str, ...] | None
    is_limited: bool = False


def parse_line(text: str, zone: ZoneInfo) -> AuthorizedKey:
    """Read a line that is neither blank nor a comment. Raises RefusedLineError."""
    text = text.strip(" \t\r")
    try:
        key, comment = _key(text)
        return AuthorizedKey(key, comment, "", None, False, None)
    except NoKeyError as error:
        # A line that begins with no key begins with options.
        if re.match(r"(?:ssh|ecdsa|sk)-\S+[ \t]", text):
            raise RefusedLineError(f"{error}: the server passes the line over") from None
    options, rest = _options(text)
    try:
        key, comment = _key(rest)
    except NoKeyError as error:
        raise RefusedLineError(f"{error}: the server passes the line over") from None
    ends = [_expiry(value, zone) for name, value in options if name == "expiry-time"]
    principals = [value for name, value in options if name == "principals"]
    return AuthorizedKey(
        key=key,
        comment=comment,
        scope=_scope(options),
        expires=min(ends) if ends else None,
        signs=any(name == "cert-authority" for name, _ in options),
        principals=tuple(principals[0].split(",")) if principals else None,
        is_limited=any(name == "command" for name, _ in options),
    )


def _key(text: str) -> tuple[PublicKey, str]:
    words = text.split(None, 2)
    if len(words) < 2:
        raise NoKeyError("no key stands here")
    return read_key(words[0], words[1]), words[2].strip() if len(words) > 2 else ""


def _options(text: str) -> tuple[list[tuple[str, str]], str]:
    options: list[tuple[str, str]] = []
    place = 0
    while match := _OPTION.match(text, place):
        name, value = match[1].lower(), match[2]
        if name not in (_BARE if value is None else _WITH_VALUE):
            what = "wants a value in quotes" if name in _WITH_VALUE else "is no option"
            raise RefusedLineError(f"{_said(match[1], name)} {what}: the server passes the line over")
        options.append((name, (value or "").replace('\\"', '"')))
        place = match.end()
        if not match[3]:
            return options, text[place:].lstrip(" \t")
    raise RefusedLineError(
        f"{quoted(text[place:], secret=True)} is neither a key nor an option: the server passes it over"
    )


def _said(word: str, name: str) -> str:
    """The word where an option belongs; one that is like none may be anything, a password too."""
    return quoted(word, secret=not (name in _WITH_VALUE or did_you_mean(name, (*_BARE, *_WITH_VALUE))))


def _expiry(text: str, zone: ZoneInfo) -> datetime:
    """The first instant at which the key no longer works: a second after the one that is named."""
    match = _TIME.fullmatch(text)
    if not match:
        raise RefusedLineError(
            f"expiry-time {quoted(text)} is no yyyymmdd[HHMM[SS]][Z]: the server passes the line over"
        )
    try:
        plain = datetime(*(int(part or 0) for part in match.groups()[:6]))  # type: ignore[arg-type]
        local = plain.replace(tzinfo=UTC if match[7] else zone)
        return local.astimezone(UTC) + timedelta(seconds=1)
    except (ValueError, OverflowError):
        raise RefusedLineError(
            f"there is no such time as {quoted(text)}: the server passes the line over"
        ) from None


def _scope(options: list[tuple[str, str]]) -> str:
    """What the options limit a key to, without what could be secret: arguments, values of variables."""
    restrictions = []
    for name, value in options:
        if name == "command":
            restrictions.append(f"one command: {value.split()[0] if value.split() else 'none'}")
        elif name == "environment":
            restrictions.append(f"sets {value.partition('=')[0]}")
        elif name == "cert-authority":
            restrictions.append("signs certificates")
        elif name == "principals":
            restrictions.append(f"for {value}")
        elif name != "expiry-time":
            restrictions.append(f"{name} {value}".strip())
    text = ", ".join(restrictions)
    return text if len(text) <= _MOST_SCOPE else text[: _MOST_SCOPE - 1] + "…"
