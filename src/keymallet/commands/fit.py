"""Guess the column map of a CSV or JSON export from its headers and values, for you to confirm."""

from __future__ import annotations

import argparse
import shlex
from datetime import UTC, datetime
from pathlib import Path
from zoneinfo import ZoneInfo

from keymallet.commands.exit_codes import CLEAN
from keymallet.commands.opening import open_estate
from keymallet.commands.writing import write_file
from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.problems import fail
from keymallet.core.facts.declaration import EXEMPTION, TOLD_TABLES
from keymallet.fitting.guess import guess
from keymallet.fitting.map_text import map_text
from keymallet.fitting.matching import Asked
from keymallet.fitting.sample import Export, look_at_pieces
from keymallet.fitting.trial import try_map, try_on_pieces
from keymallet.starting.grouping import plan
from keymallet.starting.survey import look_at_export
from keymallet.views.fit import show_guess, show_trial
from keymallet.views.start import show_found
from keymallet.views.terminal import console, show_hints, text


def run(options: argparse.Namespace) -> int:
    """Guess, try the map on the file, show both; write the map if asked to."""
    if len(options.file) > 1:
        return _several(options)
    (options.file,) = options.file
    file, now = Path(options.file), datetime.now(UTC)
    output = Path(options.output) if options.output else None
    if output is not None and output.exists():
        hint = "take another name: what somebody has looked over is not written over"
        raise fail("this file exists already", file=str(output), hint=hint)
    clock, clock_told = _clock(options.estate)
    export = look_at_pieces(file, options.file)
    asked = _asked(options.table, options.set, export)
    guessed = guess(export, now.date(), asked)
    if guessed is None:
        columns = ", ".join(column.header for column in export.sample.columns[:12])
        raise fail(
            "no column looks like the name or number its rows could be known by",
            file=options.file,
            hint=f"say which it is, as in --set name=COLUMN; the columns are: {columns}",
        )
    guessed.remarks += clock_told
    written = map_text(
        guessed, today=now.date(), clock=clock.key, map_file=output.name if output else "MAP.toml"
    )
    if output is not None:
        write_file(output, written.encode())
    out = console()
    show_guess(out, guessed)
    if export.is_whole:
        show_trial(out, try_map(written, file, export.format, clock, now))
    elif export.pieces is not None:
        tried = try_on_pieces(written, file.name, export.format, export.pieces, clock, now)
        show_trial(out, tried, on="tried on what was looked at")
    out.print()
    if output is None:
        words = ["keymallet", "fit", options.file, *(["--table", options.table] if options.table else [])]
        words += [word for setting in options.set for word in ("--set", setting)]
        show_hints(out, [(f"{shlex.join(words)} --output MAP.toml", "write the map")])
        return CLEAN
    out.print(text(f"map written to {output}", "bold"))
    of_register = {part.table.name for part in guessed.parts} == {EXEMPTION.name}
    bring = shlex.join(["keymallet", "exempt", "import", options.file, "--map", str(output), "--dry-run"])
    show_hints(
        out,
        [
            (f"less {output}", "look it over; its first lines say what it is for"),
            (bring, "see what would be entered")
            if of_register
            else ("keymallet read --dry-run", "see how the estate would be read"),
        ],
    )
    return CLEAN


def _several(options: argparse.Namespace) -> int:
    """Look at files together: what each is, and which rows find their accounts in which."""
    for option in ("output", "table", "set"):
        if getattr(options, option):
            hint = "name that file alone; keymallet start writes one map for files that go together"
            raise fail(f"--{option} is for one file", hint=hint)
    out, today = console(), datetime.now(UTC).date()
    for name in options.file:
        if not Path(name).is_file():
            raise fail("there is no such file", file=name)
    found = [look_at_export(Path(name), name, today) for name in dict.fromkeys(options.file)]
    show_found(out, plan(found), found)
    out.print()
    hints = [(shlex.join(["keymallet", "fit", each.path]), "its columns") for each in found if each.guess]
    show_hints(out, [*hints, ("keymallet start FOLDER", "make an estate of a folder of such files")])
    return CLEAN


def _clock(estate: str) -> tuple[ZoneInfo, list[str]]:
    """The estate's clock, if there is an estate; else UTC, and a remark on that."""
    if estate == "estate.toml" and not Path(estate).exists():
        return ZoneInfo("UTC"), ["no estate file here: times that carry no zone are tried as UTC"]
    return open_estate(estate).clock, []


def _asked(table: str | None, settings: list[str], export: Export) -> Asked:
    """What --table and --set say. Raises KeymalletError where that names nothing."""
    if table and table not in TOLD_TABLES:
        hint = did_you_mean(table, TOLD_TABLES) or f"there are: {', '.join(TOLD_TABLES)}"
        raise fail(f'--table: there is no table "{table}"', hint=hint)
    facts = {}
    names = {name for known_table in TOLD_TABLES.values() for name in known_table.names}
    headers = [column.header for column in export.sample.columns]
    for setting in settings:
        fact, equals, header = setting.partition("=")
        if not equals:
            raise fail(
                f'--set "{setting}" is no FACT=COLUMN', hint="like --set name=Login, or --set ends= for none"
            )
        if fact not in names or (table and fact not in TOLD_TABLES[table].names):
            hint = did_you_mean(fact, names) or '"keymallet dictionary" lists them'
            raise fail(f'--set: there is no fact "{fact}"', hint=hint)
        if header and header not in headers:
            hint = did_you_mean(header, headers) or f"the columns are: {', '.join(headers[:12])}"
            raise fail(f'--set: there is no column "{header}"', file=export.file, hint=hint)
        facts[fact] = header
    return Asked(table or "", facts)
