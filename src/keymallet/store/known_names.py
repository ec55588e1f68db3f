"""The names of a snapshot's accounts in a plain file, to be found faster than any table can be opened.

A shell waits for them at every Tab, so this needs as little as can be: not even `pathlib`. A line is
an account's source/name; in a snapshot of at most `FEW` accounts followed, after tabs, by its mail
address and by its person's name.
"""

from __future__ import annotations

import mmap
import os
from collections.abc import Iterator
from contextlib import suppress

FILE = "names.txt"
FEW = 200_000
MOST_OFFERED = 200
"""With more than so many candidates none is offered: what they begin with alike would not be that of all."""
_MANIFEST = "manifest.json"
_ENOUGH = 65_536  # bytes of a manifest in which its estate is named


def names_with(folder: str, beginning: str) -> list[str]:
    """The names in a snapshot's folder that begin so, without repetition; none if they are too many.

    An account is found by source/name, by its name alone, by mail address and by its person's name.
    """
    wanted = beginning.encode("utf-8", "surrogateescape")
    found: dict[str, None] = {}
    with (
        suppress(OSError, ValueError),
        open(os.path.join(folder, FILE), "rb") as file,
        mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ) as text,
    ):
        for name in _beginning(text, wanted):
            found[name] = None
            if len(found) > MOST_OFFERED:
                return []
    return list(found)


def _beginning(text: mmap.mmap, wanted: bytes) -> Iterator[str]:
    for before in (b"\n", b"/", b"\t"):
        place = text.find(before + wanted)
        while place >= 0:
            start = place + 1
            end = min((stop for stop in (text.find(b"\t", start), text.find(b"\n", start)) if stop >= 0),
                      default=len(text))  # fmt: skip
            name = text[start:end]
            # After a slash stands the account's name only if no other slash follows in its source/name.
            if before != b"/" or b"/" not in name:
                with suppress(UnicodeDecodeError):
                    yield name.decode()
            place = text.find(before + wanted, end)


def newest_folder(snapshots: str, estate: str) -> str | None:
    """The snapshot that is newest by its folder's name, among those of the estate.

    Good enough to offer names from; what is judged is found by `store.newest`, which trusts no name.
    """
    with suppress(OSError):
        for name in sorted((entry.name for entry in os.scandir(snapshots)), reverse=True):
            folder = os.path.join(snapshots, name)
            if not name.startswith(".") and _is_of(folder, estate):
                return folder
    return None


def _is_of(folder: str, estate: str) -> bool:
    try:
        with open(os.path.join(folder, _MANIFEST), "rb") as file:
            head = file.read(_ENOUGH).decode("utf-8", "replace")
    except OSError:
        return False
    quoted = estate.replace("\\", "\\\\").replace('"', '\\"')
    return f'"estate": "{quoted}"' in head
