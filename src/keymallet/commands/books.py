"""Opening rulebooks and registers that the options of a command name."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from zoneinfo import ZoneInfo

from keymallet.commands.opening import open_estate
from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.problems import fail
from keymallet.core.rulebook.model import Rulebook
from keymallet.core.rulebook.reading import read_rulebooks
from keymallet.core.rulebook.register import Register, read_register
from keymallet.sources.estate import Estate
from keymallet.sources.request import config_text
from keymallet.sources.rulebooks import open_included, read_book


def open_register(path: Path, clock: ZoneInfo) -> Register:
    """Read and check a register file."""
    return read_register(config_text(path, str(path)), str(path), clock)


def read_rulebook_file(path: Path) -> Rulebook:
    """Read and check a rulebook file, with what it includes; a bare name is one that ships."""
    return read_rulebook_files([path])


def read_rulebook_files(paths: Sequence[Path]) -> Rulebook:
    """Read and check rulebooks that are judged by side by side."""
    return read_rulebooks([read_book(path) for path in paths], open_included)


def rulebook_of(named: str | None, estate: Estate | None) -> Rulebook:
    """The rulebook named; else those of the estate, with the choices that it makes between their rules."""
    if named:
        return read_rulebook_file(Path(named))
    assert estate is not None, "without a rulebook named there is an estate"
    book = read_rulebook_files(estate.rulebooks)
    ids = {demand.id for demand in book.demands}
    for choice in estate.preferred:
        for which in (choice.rule, choice.over):
            if which not in ids:
                hint = did_you_mean(which, ids) or "keymallet rules show lists them"
                said = f'[[prefer]]: the rulebooks have no rule "{which}"'
                raise fail(said, file=str(estate.file), hint=hint)
    beaten = {choice.over for choice in estate.preferred}
    return book.only(lambda demand: demand.id not in beaten)


def named_or_estates(named: str | None, estate: str) -> Rulebook:
    """The rulebook named, or those of the estate file of this name."""
    return rulebook_of(named, None if named else open_estate(estate))


def book_paths(named: str | None, estate: str) -> tuple[Path, ...]:
    """The rulebook named, or the estate's."""
    return (Path(named),) if named else open_estate(estate).rulebooks
