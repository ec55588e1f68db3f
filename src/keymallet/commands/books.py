"""Opening rulebooks and registers that the options of a command name."""

from __future__ import annotations

from pathlib import Path
from zoneinfo import ZoneInfo

from keymallet.commands.opening import open_estate
from keymallet.core.rulebook.model import Rulebook
from keymallet.core.rulebook.reading import read_rulebook
from keymallet.core.rulebook.register import Register, read_register
from keymallet.sources.request import config_text
from keymallet.sources.rulebooks import open_included, read_book


def open_register(path: Path, clock: ZoneInfo) -> Register:
    """Read and check a register file."""
    return read_register(config_text(path, str(path)), str(path), clock)


def read_rulebook_file(path: Path) -> Rulebook:
    """Read and check a rulebook file, with what it includes; a bare name is one that ships."""
    text, name = read_book(path)
    return read_rulebook(text, name, open_included)


def book_path(named: str | None, estate: str) -> Path:
    """The rulebook named, or the estate's."""
    return Path(named) if named else open_estate(estate).rulebook
