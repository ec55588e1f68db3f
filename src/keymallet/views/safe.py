"""Text from outside, made fit for a terminal."""

from __future__ import annotations

import unicodedata

_ESCAPED = {"Zl", "Zp", "Cc", "Cf", "Cs", "Co", "Cn"}


def plain(text: object) -> str:
    """Write characters that would steer a terminal, or hide, as escapes: `\\x1b`, `\\u202e`.

    Those are control, format, surrogate and unassigned characters, line and paragraph separators.
    """
    written = str(text)
    if written.isascii() and written.isprintable():
        return written
    return "".join(_escaped(each) if unicodedata.category(each) in _ESCAPED else each for each in written)


def _escaped(character: str) -> str:
    code = ord(character)
    if code < 0x100:
        return f"\\x{code:02x}"
    return f"\\u{code:04x}" if code < 0x10000 else f"\\U{code:08x}"
