"""Text from outside, made fit for a terminal."""

from __future__ import annotations


def plain(text: object) -> str:
    """Write characters that would steer a terminal, or hide, as escapes: `\\x1b`, `\\u202e`.

    Those are control, format and unassigned characters, and every kind of blank but the plain one.
    """
    written = str(text)
    if written.isprintable():
        return written
    return "".join(character if character.isprintable() else _escaped(character) for character in written)


def _escaped(character: str) -> str:
    code = ord(character)
    if code < 0x100:
        return f"\\x{code:02x}"
    return f"\\u{code:04x}" if code < 0x10000 else f"\\U{code:08x}"
