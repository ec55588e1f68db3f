"""Make an estate out of a folder of exports, and judge it."""

from __future__ import annotations

import argparse
import shlex
import shutil
import sys
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path

from filelock import FileLock, Timeout
from rich.console import Console

from keymallet.commands import start_add
from keymallet.commands.arguments.start import ADD
from keymallet.commands.asking import answers_to
from keymallet.commands.exit_codes import CLEAN, FAILED
from keymallet.commands.main import main
from keymallet.commands.writing import write_file
from keymallet.core.base.listing import how_many
from keymallet.core.base.problems import fail
from keymallet.core.explaining.untold import resting_on
from keymallet.core.rulebook.reading import read_rulebook
from keymallet.outputs.new_rulebook import new_rulebook
from keymallet.sources.rulebooks import open_included, shipped_text
from keymallet.starting.grouping import Plan, Planned, plan
from keymallet.starting.questions import Answers, Question, apply, questions
from keymallet.starting.survey import survey
from keymallet.starting.texts import answers_text, estate_text, map_file, map_of, register_text
from keymallet.starting.unpacking import unpack
from keymallet.views.lacking import show_lacking
from keymallet.views.start import show_found, show_written
from keymallet.views.terminal import console, show_hints, text

ESTATE, ANSWERS = "estate.toml", "start-answers.toml"
_BASE = "base"
_READ_AT_ONCE = 1_000_000_000
"""Bytes of exports above which reading is left to whoever has the time for it."""


def run(options: argparse.Namespace) -> int:
    """Look, ask, write, read and judge; the code is that of the judging. Nothing is written over."""
    if options.folder == ADD:
        return start_add.run(options)
    if options.url:
        hint = f"of a service: keymallet start {ADD} {options.url}"
        raise fail(f"one folder at a time: {options.folder}, {options.url}", hint=hint)
    for option, given in (("--estate", options.estate != ESTATE), ("--ca-file", bool(options.ca_file))):
        if given:
            raise fail(f"{option} goes with keymallet start {ADD}", hint="of a folder, name the folder")
    folder = Path(options.folder)
    if not folder.is_dir():
        raise fail("there is no such folder", file=options.folder, hint="name the folder with the exports")
    if not options.look:
        _check_free(folder, [ESTATE])
    out, now = console(), datetime.now(UTC)
    found = survey(folder, now.date())
    made = plan(found)
    show_found(out, made, found)
    if not made.sources:
        hint = "it wants an export of accounts as CSV or JSON, a host's files, or LDIF"
        raise fail("nothing here can be judged", file=options.folder, hint=hint)
    asked = questions(made, folder)
    if options.look:
        book = read_rulebook(shipped_text(_BASE), _BASE, open_included)
        show_lacking(out, _tables(made), resting_on(book))
        command = shlex.join(["keymallet", "start", *([options.folder] if options.folder != "." else [])])
        show_hints(out, [(command, f"make an estate of it: {how_many(len(asked), 'question')}")])
        return CLEAN
    answers = answers_to(out, options, asked)
    apply(made, answers)
    files = _texts(made, answers, asked, now)
    with _alone_in(folder):
        _check_free(folder, [*files, *_unpacked(made)])
        _write(folder, files, made)
    show_written(out, options.folder, list(files))
    return _read_and_judge(out, folder, options.folder, made)


def _texts(made: Plan, answers: Answers, asked: Sequence[Question], now: datetime) -> dict[str, str]:
    """Every file that is written, by its path in the folder."""
    clock = str(answers[("clock",)])
    book = read_rulebook(shipped_text(_BASE), _BASE, open_included)
    maps = {
        map_file(source): map_of(source, today=now.date(), clock=clock)
        for source in made.sources
        if source.guesses
    }
    return {
        ESTATE: estate_text(made, answers),
        **maps,
        "rulebook.toml": new_rulebook(_BASE, book),
        "exemptions.toml": register_text(),
        ANSWERS: answers_text(asked, answers),
    }


def _tables(made: Plan) -> set[str]:
    """The tables that some source tells of; hosts and directories tell of their own."""
    told = {part.table.name for source in made.sources for guess in source.guesses for part in guess.parts}
    return told | ({"key", "setting"} if any(not source.guesses for source in made.sources) else set())


def _unpacked(made: Plan) -> list[str]:
    return [source.folder for source in made.sources if source.archives]


def _check_free(folder: Path, names: Sequence[str]) -> None:
    there = [name for name in names if (folder / name).exists()]
    folders = dict.fromkeys(name.partition("/")[0] for name in names if "/" in name)
    there += [name for name in folders if (folder / name).exists() and not (folder / name).is_dir()]
    if there:
        hint = "move them away to begin anew; keymallet read and judge go on with what is there"
        raise fail(f"already there, and not written over: {', '.join(there)}", file=str(folder), hint=hint)


@contextmanager
def _alone_in(folder: Path) -> Iterator[None]:
    """Let nobody else make an estate here meanwhile. Raises KeymalletError where somebody does."""
    lock = folder / ".keymallet-start.lock"
    try:
        with FileLock(lock, timeout=0):
            try:
                yield
            finally:  # only here: who finds it taken must not take it away
                lock.unlink(missing_ok=True)
    except Timeout:
        raise fail("another start is at work in this folder", file=str(folder)) from None
    except OSError as error:
        raise fail(f"nothing can be written here: {error.strerror or error}", file=str(folder)) from None


def _write(folder: Path, files: Mapping[str, str], made: Plan) -> None:
    """Unpack and write all, or nothing; the estate file comes last, so that a folder with one is whole."""
    written: list[Path] = []
    try:
        for source in made.sources:
            if source.archives:
                written.append(folder / source.folder)
                _unpack(folder, source)
        for name, content in sorted(files.items(), key=lambda item: item[0] == ESTATE):
            if not (folder / name).parent.exists():
                (folder / name).parent.mkdir()
                written.append((folder / name).parent)
            written.append(folder / name)
            write_file(folder / name, content.encode())
    except BaseException:
        for path in reversed(written):
            if path.is_dir():
                shutil.rmtree(path, ignore_errors=True)
            else:
                path.unlink(missing_ok=True)
        raise


def _unpack(folder: Path, source: Planned) -> None:
    """Unpack the archives of a source; they are there as a whole, or not at all."""
    with tempfile.TemporaryDirectory(dir=folder, prefix=".unpacking-") as half:
        for path, host in source.archives.items():
            unpack(folder / path, path, Path(half) / "whole" / host)
        (Path(half) / "whole").rename(folder / source.folder)


def _read_and_judge(out: Console, folder: Path, shown: str, made: Plan) -> int:
    estate = ["--estate", str(folder / ESTATE)] if shown != "." else []
    paths = {path for source in made.sources for paths in source.files.values() for path in paths}
    if sum((folder / path).stat().st_size for path in paths if (folder / path).is_file()) > _READ_AT_ONCE:
        command = shlex.join(["keymallet", "read", *estate])
        show_hints(out, [(command, "read it: with exports as large as these it takes its time")])
        return CLEAN
    out.print()
    out.print(text("read", "bold"))
    sys.stdout.flush()
    if main(["read", *estate]) == FAILED:
        hint = "correct what it says, then keymallet read"
        raise fail("the estate is made, and could not be read", file=str(folder / ESTATE), hint=hint)
    out.print()
    out.print(text("judge", "bold"))
    sys.stdout.flush()
    code = main(["judge", *estate])
    hints = [("less maps/*.toml", "look the maps over: which column is which fact")] if paths else []
    show_hints(
        out, [*([(f"cd {shlex.quote(shown)}", "work in the estate's folder")] if estate else []), *hints]
    )
    return code
