"""Opening single things that the options of a command name: estate, rulebook, register, instant."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path
from zoneinfo import ZoneInfo

from keymallet.core.base.problems import fail
from keymallet.core.language.clocks import AN_INSTANT, instant_in
from keymallet.core.rulebook.model import Rulebook
from keymallet.core.rulebook.reading import read_rulebook
from keymallet.core.rulebook.register import Register, read_register
from keymallet.sources.estate import Estate, read_estate
from keymallet.sources.request import read_file, utf8_text
from keymallet.sources.rulebooks import open_included, read_book


def instant(written: str | None, clock: ZoneInfo) -> datetime:
    """The instant asked for with --at, else now. A date without zone is in the estate's clock."""
    if written is None:
        return datetime.now(UTC)

    parsed = instant_in(written, clock)
    if parsed is None:
        raise fail(f'--at "{written}" is no instant', hint=AN_INSTANT)
    return parsed


def open_estate(file: str) -> Estate:
    """Read the estate file."""
    path = Path(file)
    if file == "estate.toml" and not path.exists():
        raise fail(
            "there is no estate file here",
            file=file,
            hint="name one with --estate, or see one: keymallet demo",
        )
    return read_estate(path)


def open_register(path: Path, clock: ZoneInfo) -> Register:
    """Read and check a register file."""
    return read_register(utf8_text(read_file(path, str(path)), str(path)), str(path), clock)


def read_rulebook_file(path: Path) -> Rulebook:
    """Read and check a rulebook file, with what it includes; a bare name is one that ships."""
    text, name = read_book(path)
    return read_rulebook(text, name, open_included)


def book_path(named: str | None, estate: str) -> Path:
    """The rulebook named, or the estate's."""
    return Path(named) if named else open_estate(estate).rulebook
