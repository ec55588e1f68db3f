"""Read the sources of the estate into a snapshot: fact tables, and a note of everything not read."""

from __future__ import annotations

import argparse
from collections.abc import Iterable, Mapping
from dataclasses import replace
from datetime import datetime
from importlib.resources import files
from pathlib import Path

from rich.console import Console

from keymallet.commands.books import rulebook_of
from keymallet.commands.exit_codes import CLEAN, INCOMPLETE
from keymallet.commands.opening import instant, open_estate
from keymallet.commands.taking_in import read_into_snapshot, watched
from keymallet.commands.trials import failure_recorded
from keymallet.commands.writing import write_file
from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.problems import KeymalletError, fail
from keymallet.core.base.source_names import is_of
from keymallet.core.explaining.untold import Resting, resting_on
from keymallet.core.facts.declaration import ACCOUNT
from keymallet.core.facts.reading import Reading
from keymallet.core.linking.assembling import assemble
from keymallet.sources.estate import Estate
from keymallet.sources.export.refused import named_apart, refused_rows
from keymallet.sources.reading import read_sources
from keymallet.store.snapshot import SourceRecord
from keymallet.views.intake import SOURCES_SHOWN, has_gaps, show_intake, show_reading
from keymallet.views.lacking import show_lacking
from keymallet.views.terminal import console, show_hints, text


def run(options: argparse.Namespace) -> int:
    """Read, and say how each source was read. Anything not read ends with the code for incomplete."""
    if options.collect_script:
        print(files("keymallet.sources.host").joinpath("collect.sh").read_text("utf-8"), end="")
        return CLEAN
    estate = open_estate(options.estate)
    names = [source.name for source in estate.sources]
    for name in options.only:
        if name not in names:
            hint = did_you_mean(name, names) or f"there are: {', '.join(names)}"
            raise fail(f'the estate has no source "{name}"', file=options.estate, hint=hint)
    if options.refused and Path(options.refused).exists():
        hint = "name a new file: somebody may be correcting these rows"
        raise fail("this file exists already", file=options.refused, hint=hint)
    at = instant(options.at, estate.clock)
    if options.dry_run:
        return _try_out(estate, at, options)
    with failure_recorded(options.estate, trial=options.at is not None):
        snapshot = read_into_snapshot(estate, at, only=options.only, accept_drop=options.accept_drop)

    out = console()
    everything = len(snapshot.manifest.sources)
    show_intake(out, snapshot, most=everything if options.all else SOURCES_SHOWN)
    _write_refused(out, estate, options.refused, snapshot.manifest.sources)
    show_lacking(out, _told(snapshot.manifest.sources.values()), _rules_by_table(estate))
    out.print(text(f"snapshot {snapshot.folder}", "bold"))
    show_hints(out, [("keymallet judge", "judge it")])
    return INCOMPLETE if any(map(has_gaps, snapshot.manifest.sources.values())) else CLEAN


def _told(sources: Iterable[SourceRecord | Reading]) -> set[str]:
    """The tables that some source tells of; what a system has no notion of is told as well."""
    return {table for source in sources for table, facts in source.supply.items() if facts}


def _rules_by_table(estate: Estate) -> Mapping[str, Resting]:
    """How many rules rest on each table; none, where the rulebook has faults, which `judge` names."""
    try:
        return resting_on(rulebook_of(None, estate).of_what_exists)
    except KeymalletError:
        return {}


def _write_refused(
    out: Console, estate: Estate, target: str | None, sources: Mapping[str, SourceRecord | Reading]
) -> None:
    """Write the rows of exports that were refused where --refused says, as they stood."""
    if not target:
        return
    refusals = {
        name: [refusal for intake in source.intake.values() for refusal in intake.refusals]
        for name, source in sources.items()
    }
    rows = refused_rows(estate, refusals)
    for path, file in named_apart(Path(target), rows).items():
        write_file(file, rows[path])
        out.print(
            text(f"refused rows of {path} written to {file}: correct them, and read them again", "bold")
        )
    if not rows:
        out.print(text("no row of an export was refused: nothing to write", "dim"))


def _with_strays(reading: Reading, estate: Estate) -> Reading:
    """The reading, with a note on rows that name no account of its source, as a snapshot would have it."""
    section = next(source.section for source in estate.sources if is_of(reading.source, source.name))
    reading.strays_expected = section.strays == "expected"
    if reading.failed or ACCOUNT.name not in reading.tables:
        return reading
    (noted,) = assemble([reading]).readings
    return replace(reading, intake=noted.intake, remarks=noted.remarks)


def _try_out(estate: Estate, at: datetime, options: argparse.Namespace) -> int:
    """Read, count and show the first accounts of each source as they would be taken."""
    wanted = estate.chosen(options.only)
    with watched() as watcher:
        read = read_sources(wanted, estate, at, watcher)
    readings = [_with_strays(reading, estate) for reading in read]
    out = console()
    for reading in readings:
        show_reading(out, reading, estate.clock)
    _write_refused(out, estate, options.refused, {reading.source: reading for reading in readings})
    if not options.only:
        show_lacking(out, _told(readings), _rules_by_table(estate))
    out.print(text("no snapshot was written" if options.refused else "nothing was written", "bold"))
    return INCOMPLETE if any(map(has_gaps, readings)) else CLEAN
