"""Rulebook files: those on disk, those that ship with Keymallet, and what either includes."""

from __future__ import annotations

import hashlib
import os
from importlib.resources import files
from pathlib import Path

from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.problems import KeymalletError, fail
from keymallet.sources.request import config_text

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
    return _is_bare(name) and name in shipped()


def names_a_book(name: str) -> bool:
    """Whether a name is a rulebook's, and not a rule's: of a file, or of one that ships."""
    return not _is_bare(name) or is_shipped(name) or Path(name).is_file()


def _is_bare(name: str) -> bool:
    return "/" not in name and "." not in name


def shipped_text(name: str, ending: str = ".toml") -> str:
    """The text of a rulebook that ships, or of its cases."""
    return files(_SHIPPED).joinpath(name + ending).read_text("utf-8")


def book_of(folder: Path, named: str) -> Path:
    """The rulebook that a file in a folder names: a file beside it, or one that ships."""
    # Made plain, so that a file is known again whichever way it is named.
    beside = Path(os.path.normpath(folder / named))
    return Path(named) if _is_bare(named) and not beside.is_file() else beside


def read_book(path: Path) -> tuple[str, str]:
    """The text and the name of a rulebook. Raises KeymalletError if there is none."""
    name = str(path)
    if not _is_bare(name) or path.is_file():
        return config_text(path, name), name
    if name in shipped():
        return shipped_text(name), name
    raise no_such_book(name)


def digest_of(name: str) -> str:
    """The SHA-256 of a rulebook's or register's file, as it lies there; of one that ships, of its text."""
    path = Path(name)
    data = shipped_text(name).encode() if is_shipped(name) and not path.is_file() else path.read_bytes()
    return hashlib.sha256(data).hexdigest()


def open_included(wanted: str, by: str) -> tuple[str, str]:
    """What `by` includes. Raises KeymalletError if there is none."""
    return read_book(book_of(Path(by).parent, wanted))


def read_cases_of(path: Path) -> tuple[str, str]:
    """The text and the name of the cases beside a rulebook. Raises KeymalletError if there are none."""
    if is_shipped(str(path)) and not path.exists():
        return shipped_text(str(path), CASES), f"{path}{CASES}"
    file = path.with_name(path.name.removesuffix(".toml") + CASES)
    if not file.exists():
        hint = 'write them there: [[case]], rule = "…", expect = "breach", account = { … }'
        raise fail("there are no cases beside the rulebook", file=str(file), hint=hint)
    return config_text(file, str(file)), str(file)


def no_such_book(name: str) -> KeymalletError:
    """The error for a bare name that no rulebook that ships has."""
    hint = did_you_mean(name, shipped()) or f"there are: {', '.join(shipped())}; or name a file"
    return fail(f'no rulebook "{name}" ships with Keymallet', hint=hint)
