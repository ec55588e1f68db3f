"""What an estate has to offer for a word that is being typed: accounts, rules, limits, sources, entries.

Files are read as they stand and what is wrong in them is passed over: a Tab is no place for messages.
"""

from __future__ import annotations

import os
import tomllib
from collections.abc import Iterator
from contextlib import suppress
from typing import Any

from keymallet.store.known_names import MOST_OFFERED, names_with, newest_folder

_LARGEST = 4_000_000  # bytes of a file that is looked into
_SHIPPED = os.path.join(os.path.dirname(os.path.dirname(__file__)), "rulebooks")
_CASES = ".cases.toml"


def accounts(estate: str, beginning: str) -> list[str]:
    """Accounts of the newest snapshot: before anything is typed, the sources alone."""
    text = _toml(estate)
    sources = [f"{name}/" for name in text.get("source", {}) if name.startswith(beginning)]
    if not beginning:
        return sources
    snapshots = os.path.join(os.path.dirname(estate), str(text.get("snapshots", "snapshots")))
    identity = text.get("identity") or os.path.relpath(estate, snapshots)
    newest = newest_folder(snapshots, identity)
    return [*sources, *(names_with(newest, beginning) if newest else ())][:MOST_OFFERED]


def sources(estate: str) -> list[str]:
    """The names of the estate's sources."""
    return list(_toml(estate).get("source", {}))


def rulebooks() -> list[str]:
    """The rulebooks that ship."""
    named = (name for name in os.listdir(_SHIPPED) if name.endswith(".toml") and not name.endswith(_CASES))
    return sorted(name.removesuffix(".toml") for name in named)


def rules(estate: str, book: str | None = None) -> list[str]:
    """The ids of a rulebook's rules, by default those of the estate, with what it includes."""
    return sorted(
        {
            rule
            for text in _books(estate, book)
            for part in ("rule", "tally", "distinct")
            for rule in text.get(part, ())
        }
    )


def limits(estate: str, book: str | None = None) -> list[str]:
    """The limits of a rulebook, as `limit.NAME`."""
    return sorted({f"limit.{name}" for text in _books(estate, book) for name in text.get("limits", ())})


def entries(estate: str, register: str | None = None) -> list[str]:
    """The entries of a register of exemptions, by default that of the estate."""
    named = register or os.path.join(os.path.dirname(estate), str(_toml(estate).get("register", "")))
    return list(_toml(named).get("exemption", {}))


def _books(estate: str, book: str | None) -> Iterator[dict[str, Any]]:
    named = [book] if book else _list(_toml(estate).get("rulebook", []))
    waiting = [("" if book else os.path.dirname(estate), name) for name in named]
    seen: set[str] = set()
    while waiting:
        beside, name = waiting.pop()
        file = os.path.join(beside, name)
        if not set("/.") & set(name) and not os.path.isfile(file):
            file = os.path.join(_SHIPPED, f"{name}.toml")
        if file not in seen:
            seen.add(file)
            text = _toml(file)
            waiting += [(os.path.dirname(file), included) for included in _list(text.get("include", []))]
            yield text


def _list(named: object) -> list[str]:
    return [one for one in (named if isinstance(named, list) else [named]) if isinstance(one, str)]


def _toml(name: str) -> dict[str, Any]:
    with suppress(OSError, ValueError, RecursionError):
        if os.path.isfile(name) and os.path.getsize(name) <= _LARGEST:
            with open(name, "rb") as file:
                return tomllib.load(file)
    return {}
