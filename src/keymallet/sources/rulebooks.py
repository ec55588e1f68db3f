"""Rulebook files: those on disk, those that ship with Keymallet, and what either includes."""

from __future__ import annotations

import os
from importlib.resources import files
from pathlib import Path

from keymallet.core.nearest import did_you_mean
from keymallet.core.problems import fail
from keymallet.sources.request import read_file, utf8_text

_SHIPPED = "keymallet.rulebooks"
CASES = ".cases.toml"


def shipped() -> tuple[str, ...]:
    """The names of the rulebooks that ship, the plain one first."""
    names = sorted(
        file.name.removesuffix(".toml")
        for file in files(_SHIPPED).iterdir()
        if file.name.endswith(".toml") and not file.name.endswith(CASES)
    )
    return tuple(sorted(names, key=lambda name: name != "base"))


def is_shipped(name: str) -> bool:
    """Whether a name is one of a rulebook that ships: a bare word, not a file."""
    return "/" not in name and "." not in name and name in shipped()


def shipped_text(name: str, ending: str = ".toml") -> str:
    """The text of a rulebook that ships, or of its cases."""
    return files(_SHIPPED).joinpath(name + ending).read_text("utf-8")


def book_of(folder: Path, named: str) -> Path:
    """The rulebook that an estate file names: a file in its folder, or one that ships."""
    beside = folder / named
    return Path(named) if is_shipped(named) and not beside.exists() else beside


def read_book(path: Path) -> tuple[str, str]:
    """The text and the name of a rulebook. Raises KeymalletError if there is none."""
    name = str(path)
    if is_shipped(name) and not path.exists():
        return shipped_text(name), name
    return utf8_text(read_file(path, name, hint=_ships_with(name)), name), name


def open_included(wanted: str, by: str) -> tuple[str, str]:
    """What `by` includes: a book that ships, or a file beside it. Raises KeymalletError if there is none."""
    # Made plain, so that a file is known again whichever way it is included.
    beside = Path(os.path.normpath(Path(by).parent / wanted))
    if is_shipped(wanted) and not beside.exists():
        return shipped_text(wanted), wanted
    if "/" not in wanted and "." not in wanted:
        hint = did_you_mean(wanted, shipped()) or f"there are: {', '.join(shipped())}; or name a file"
        raise fail(f'no rulebook "{wanted}" ships with Keymallet', hint=hint)
    return utf8_text(
        read_file(beside, str(beside), hint="paths are taken from the file that includes"), str(beside)
    ), str(beside)


def _ships_with(name: str) -> str:
    return did_you_mean(name, shipped()) or f"name a file, or one that ships: {', '.join(shipped())}"
