"""Read the sources of the estate into a snapshot: fact tables, and a note of everything not read."""

from __future__ import annotations

import argparse
from datetime import datetime
from importlib.resources import files

from keymallet.commands.exit_codes import CLEAN, INCOMPLETE
from keymallet.commands.opening import instant, open_estate
from keymallet.commands.taking_in import read_into_snapshot, watched
from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.problems import fail
from keymallet.sources.estate import Estate
from keymallet.sources.reading import read_sources
from keymallet.views.intake import SOURCES_SHOWN, has_gaps, show_intake, show_reading
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
    at = instant(options.at, estate.clock)
    if options.dry_run:
        return _try_out(estate, at, options.only)
    snapshot = read_into_snapshot(estate, at, only=options.only, accept_drop=options.accept_drop)

    out = console()
    everything = len(snapshot.manifest.sources)
    show_intake(out, snapshot, most=everything if options.all else SOURCES_SHOWN)
    out.print(text(f"snapshot {snapshot.folder}", "bold"))
    show_hints(out, [("keymallet judge", "judge it")])
    return INCOMPLETE if any(map(has_gaps, snapshot.manifest.sources.values())) else CLEAN


def _try_out(estate: Estate, at: datetime, only: list[str]) -> int:
    """Read, count and show the first accounts of each source as they would be taken."""
    wanted = estate.chosen(only)
    with watched() as watcher:
        readings = read_sources(wanted, estate, at, watcher)
    out = console()
    for reading in readings:
        show_reading(out, reading, estate.clock)
    out.print(text("nothing was written", "bold"))
    return INCOMPLETE if any(map(has_gaps, readings)) else CLEAN
