"""The names of a snapshot's accounts in a plain file, to be found faster than any table can be opened.

A shell waits for them at every Tab, so this needs as little as can be: not even `pathlib`. A line is
an account's source/name; in a snapshot of at most `FEW` accounts followed, after tabs, by its mail
address and by its person's name.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import suppress

FILE = "names.txt"
FEW = 200_000
MOST_OFFERED = 200
"""With more than so many candidates none is offered: what they begin with alike would not be that of all."""
_BEFORE = (b"\n", b"/", b"\t")
_OFTEN = 1_000
_MANIFEST = "manifest.json"
_ENOUGH = 65_536  # bytes of a manifest in which its estate is named


def names_with(folder: str, beginning: str) -> list[str]:
    """The names in a snapshot's folder that begin so, without repetition; none if they are too many.

    An account is found by source/name, by its name alone, by mail address and by its person's name.
    """
    wanted = beginning.encode("utf-8", "surrogateescape")
    found: dict[str, None] = {}
    with suppress(OSError), open(os.path.join(folder, FILE), "rb") as file:
        for name in _names(file.read(), wanted):
            found[name] = None
            if len(found) > MOST_OFFERED:
                return []
    return list(found)


def _names(text: bytes, wanted: bytes) -> Iterator[str]:
    for place in _places(text, wanted):
        name = text[place : text.find(b"\n", place)].partition(b"\t")[0]
        # After a slash stands the account's name only if no other slash follows in its source/name.
        if text[place - 1 : place] != b"/" or b"/" not in name:
            with suppress(UnicodeDecodeError):
                yield name.decode()


def _places(text: bytes, wanted: bytes) -> Iterator[int]:
    """Where a name may begin so: at the beginning of a line, after a tab, or after a slash."""
    place, inside = text.find(wanted), 0
    while place >= 0 and inside <= _OFTEN:
        if text[place - 1 : place] in _BEFORE:
            yield place
        else:
            inside += 1
        place = text.find(wanted, place + 1)
    # What stands inside of names again and again is looked for with what stands before a name.
    for before in _BEFORE if place >= 0 else ():
        marked = text.find(before + wanted, place - 1)
        while marked >= 0:
            yield marked + 1
            marked = text.find(before + wanted, marked + 1)


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
