"""In which encoding a file is that says nothing of it: what reads best, and makes words of its header."""

from __future__ import annotations

from charset_normalizer import from_bytes

from keymallet.fitting.vocabulary import accented_letters, understood

_LOOKED_AT = 200_000
"""Bytes of the file's beginning."""
_NAMES = {
    "cp1252": "windows-1252",
    "cp1250": "windows-1250",
    "cp1254": "windows-1254",
    "cp1251": "windows-1251",
    "cp1253": "windows-1253",
    "cp932": "cp932",
    "euc_jp": "euc-jp",
    "iso8859_2": "iso-8859-2",
}
"""What is tried; the first of those that read the file alike is named."""
_COMMONEST = "windows-1252"


def is_utf8(data: bytes) -> bool:
    """Whether it is UTF-8, or UTF-16 that says so itself."""
    if data.startswith((b"\xff\xfe", b"\xfe\xff")):
        return True
    try:
        data.decode()
    except UnicodeDecodeError:
        return False
    return True


def find_encoding(data: bytes) -> str:
    """The encoding of a file that is not UTF-8, or an empty string for one that is.

    Several can read a file without a fault; the one in which most of its first line is known words counts.
    """
    beginning = data[:_LOOKED_AT]
    pairs = len(beginning) // 2 or 1
    for zeros, name in ((beginning[1::2], "utf-16-le"), (beginning[0::2], "utf-16-be")):
        if zeros.count(0) > 0.6 * pairs and not data.startswith((b"\xff\xfe", b"\xfe\xff")):
            return name
    if is_utf8(data):
        return ""
    beginning = beginning[: beginning.rfind(b"\n") + 1] or beginning
    line = next((line for line in beginning.splitlines() if line.strip()), b"")
    found = [_COMMONEST, *(match.encoding for match in from_bytes(beginning, cp_isolation=[*_NAMES]))]
    best, most = _COMMONEST, (-1, -1)
    for name in found:
        try:
            data.decode(name)
            written = line.decode(name)
            header = understood(written)
        except UnicodeDecodeError:
            continue
        # Words are known without their accents too; it is these that tell encodings of neighbours apart.
        letters = sum(piece.letters for piece in header.pieces) - header.letters_left
        known = (letters, accented_letters(written))
        if known > most:
            best, most = _NAMES.get(name, name), known
    return best
