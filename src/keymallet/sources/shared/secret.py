"""Secrets that an estate file points to: `env:NAME` or `file:PATH`, never written in it."""

from __future__ import annotations

import ipaddress
import os
from pathlib import Path

from keymallet.core.base.problems import fail

_SHORTEST = 6
"""A shorter secret would be found in half of all words."""


def is_loopback(host: str) -> bool:
    """Whether a host is this machine itself: by its address, or the one name that stands for it (RFC 6761).

    A name that only begins like one is somebody else's.
    """
    try:
        return ipaddress.ip_address(host.strip("[]")).is_loopback
    except ValueError:
        return host.lower() == "localhost"


class Secret:
    """A secret that shows itself nowhere: not in messages, logs or tracebacks."""

    __slots__ = ("_value",)

    def __init__(self, value: str) -> None:
        self._value = value

    def __repr__(self) -> str:
        """Hide the value."""
        return "Secret(…)"

    def hidden_in(self, text: str) -> str:
        """A text without the secret, should somebody have put it there."""
        return text.replace(self._value, "…") if len(self._value) >= _SHORTEST else text

    @property
    def is_long(self) -> bool:
        """Whether it is long enough to be looked for in what comes back."""
        return len(self._value) >= _SHORTEST

    def reveal(self) -> str:
        """The value, for the one call that needs it."""
        return self._value


def read_secret(pointer: str, folder: Path, setting: str) -> Secret:
    """Fetch a secret. Raises KeymalletError, without a word of what was found."""
    kind, _, name = pointer.partition(":")
    if kind == "env" and name:
        value = os.environ.get(name)
        if value is None:
            raise fail(f"{setting}: there is no {name} in the environment", hint=f"export {name}=…")
        return Secret(value)
    if kind == "file" and name:
        try:
            text = (folder / name).read_text("utf-8")
        except (OSError, UnicodeDecodeError) as error:
            reason = getattr(error, "strerror", None) or "it is not UTF-8"
            raise fail(f"{setting}: the file cannot be read: {reason}", file=name) from None
        return Secret(text.rstrip("\r\n"))
    hint = 'write "env:NAME" or "file:PATH": the secret itself does not belong in the estate file'
    raise fail(f"{setting}: this is no pointer to a secret", hint=hint)
