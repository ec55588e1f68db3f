"""Secrets that an estate file points to: `env:NAME` or `file:PATH`, never written in it."""

from __future__ import annotations

import os
from pathlib import Path

from keymallet.core.base.problems import fail


class Secret:
    """A secret that shows itself nowhere: not in messages, logs or tracebacks."""

    __slots__ = ("_value",)

    def __init__(self, value: str) -> None:
        self._value = value

    def __repr__(self) -> str:
        """Hide the value."""
        return "Secret(…)"

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
