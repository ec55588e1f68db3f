"""What the collect script found on a host and what it did not: a list that it leaves beside the files.

Each line is a word and a path: `taken`, `none` (looked for, not there), `unread` (there, and could not be
read), `runs` and `runs-not` (a login shell).
"""

from __future__ import annotations

from dataclasses import dataclass, field

COLLECTED = "keymallet.collected"
"""The list, at the root of a host's files."""


@dataclass(frozen=True)
class Collected:
    """What the list says; empty, and not there, where files came along some other way."""

    is_there: bool = False
    none: frozenset[str] = frozenset()
    unread: tuple[str, ...] = ()
    shells: dict[str, bool] = field(default_factory=dict)


def plain(path: str) -> str:
    """A path in the one form that all spellings of it have."""
    return "/" + "/".join(part for part in path.split("/") if part not in ("", "."))


def read_collected(data: bytes | None) -> Collected:
    """Read the list. A line that says nothing known is passed over: a newer script may say more."""
    if data is None:
        return Collected()
    none: set[str] = set()
    unread: list[str] = []
    shells: dict[str, bool] = {}
    for line in data.decode("utf-8", "replace").splitlines():
        word, _, path = line.partition(" ")
        if word == "none":
            none.add(plain(path))
        elif word == "unread":
            unread.append(path)
        elif word in ("runs", "runs-not"):
            shells[path] = word == "runs"
    return Collected(True, frozenset(none), tuple(unread), shells)
