"""Make an estate out of a folder of exports, and judge it."""

from __future__ import annotations

import argparse
import signal
import sys
import tempfile
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from pathlib import Path

from rich.console import Console

from keymallet.commands.exit_codes import CLEAN
from keymallet.commands.main import main
from keymallet.commands.writing import write_file
from keymallet.core.base.problems import fail
from keymallet.core.rulebook.reading import read_rulebook
from keymallet.outputs.new_rulebook import new_rulebook
from keymallet.sources.request import config_text
from keymallet.sources.rulebooks import open_included, shipped_text
from keymallet.starting.grouping import Plan, plan
from keymallet.starting.questions import Answers, Question, apply, fault_of, questions, read_answers
from keymallet.starting.survey import survey
from keymallet.starting.texts import answers_text, estate_text, map_file, map_of, register_text
from keymallet.starting.unpacking import unpack
from keymallet.views.start import show_found, show_lacking, show_question, show_written
from keymallet.views.terminal import console, show_hints, text

ESTATE, ANSWERS = "estate.toml", "start-answers.toml"
_BASE = "base"
_SOURCES_FIRST = 1_000_000_000
"""Bytes of exports above which reading is left to whoever has the time for it."""


def run(options: argparse.Namespace) -> int:
    """Look, ask, write, read and judge; the code is that of the judging. Nothing is written over."""
    folder = Path(options.folder)
    if not folder.is_dir():
        raise fail("there is no such folder", file=options.folder, hint="name the folder with the exports")
    out, now = console(), datetime.now(UTC)
    found = survey(folder, now.date())
    made = plan(found)
    show_found(out, made, found)
    if not made.sources:
        hint = "it wants an export of accounts as CSV or JSON, a host's files, or LDIF"
        raise fail("nothing here can be judged", file=options.folder, hint=hint)
    asked = questions(made, folder)
    if options.look:
        out.print()
        show_lacking(out, made)
        show_hints(
            out, [(f"keymallet start {options.folder}", f"make an estate of it: {len(asked)} questions")]
        )
        return CLEAN
    answers = _answers(out, options, asked)
    apply(made, answers)
    files = _texts(made, answers, asked, now)
    _check_free(folder, [*files, *_unpacked(made)])
    _write(folder, files, made)
    show_written(out, options.folder, list(files))
    return _read_and_judge(out, folder, options.folder, made)


def _answers(out: Console, options: argparse.Namespace, asked: Sequence[Question]) -> Answers:
    """What is told on the command line, in a file, or by whoever sits there. Raises KeymalletError."""
    if options.yes:
        return {question.about: question.default for question in asked}
    given: Answers = {}
    if options.answers:
        given = read_answers(config_text(Path(options.answers), options.answers), options.answers, asked)
    open_ = [question for question in asked if question.about not in given]
    if open_ and not sys.stdin.isatty():
        if options.answers:
            return {question.about: given.get(question.about, question.default) for question in asked}
        hint = "--yes takes the defaults, --answers FILE gives the answers"
        raise fail(f"{len(open_)} questions are open, and nobody is there to answer", hint=hint)
    # Polars has a handler of its own, under which an interrupt would wait for the next line that is typed.
    signal.siginterrupt(signal.SIGINT, True)
    for number, question in enumerate(open_, start=1):
        given[question.about] = _ask(out, question, number, len(open_))
    return given


def _ask(out: Console, question: Question, number: int, of: int) -> str | list[str]:
    """Ask until there is an answer; an empty one is the default."""
    complaint = ""
    while True:
        show_question(out, question, number, of, complaint)
        try:
            written = input("> ").strip()
        except EOFError:
            raise fail("the answers ended before the questions", hint="nothing was written") from None
        if not written:
            return question.default
        answer = _meant(question, written)
        complaint = fault_of(question, answer)
        if not complaint:
            return answer


def _meant(question: Question, written: str) -> str | list[str]:
    """An answer as written, with choices named by their number or their name."""
    choices = list(question.choices or {})
    words = written.replace(",", " ").split() if question.several else [written]
    if question.several and words in (["all"], ["none"]):
        return choices if words == ["all"] else []
    meant = [
        choices[int(word) - 1] if word.isdecimal() and 0 < int(word) <= len(choices) else word
        for word in words
    ]
    return meant if question.several else meant[0]


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


def _unpacked(made: Plan) -> list[str]:
    return [source.folder for source in made.sources if source.archives]


def _check_free(folder: Path, names: Sequence[str]) -> None:
    there = [name for name in names if (folder / name).exists()]
    if there:
        hint = "move them away to begin anew; keymallet read and judge go on with what is there"
        raise fail(f"already there, and not written over: {', '.join(there)}", file=str(folder), hint=hint)


def _write(folder: Path, files: Mapping[str, str], made: Plan) -> None:
    """Unpack and write; the estate file comes last, so that a folder with one is whole."""
    for source in made.sources:
        if source.archives:
            with tempfile.TemporaryDirectory(dir=folder, prefix=".unpacking-") as half:
                for path, host in source.archives.items():
                    unpack(folder / path, path, Path(half) / "whole" / host)
                (Path(half) / "whole").rename(folder / source.folder)
    for name, written in sorted(files.items(), key=lambda item: item[0] == ESTATE):
        (folder / name).parent.mkdir(exist_ok=True)
        write_file(folder / name, written.encode())


def _read_and_judge(out: Console, folder: Path, shown: str, made: Plan) -> int:
    estate = ["--estate", str(folder / ESTATE)] if shown != "." else []
    paths = {path for source in made.sources for paths in source.files.values() for path in paths}
    if sum((folder / path).stat().st_size for path in paths if (folder / path).is_file()) > _SOURCES_FIRST:
        show_hints(
            out,
            [(" ".join(["keymallet read", *estate]), "read it: with exports as large as these, not at once")],
        )
        return CLEAN
    out.print()
    out.print(text("read", "bold"))
    sys.stdout.flush()
    main(["read", *estate])
    if not (folder / "snapshots").exists():
        raise fail(
            "nothing could be read", file=str(folder / ESTATE), hint="mend the maps, then keymallet read"
        )
    out.print()
    out.print(text("judge", "bold"))
    sys.stdout.flush()
    code = main(["judge", *estate])
    out.print()
    show_lacking(out, made)
    return code
