"""Read the sources of the estate into a snapshot: fact tables, and a note of everything not read."""

from __future__ import annotations

import argparse

from keymallet.commands.common import add_at, add_estate, gather_snapshot, instant, open_estate
from keymallet.commands.main import CLEAN, INCOMPLETE

EXAMPLES = [
    ("keymallet gather", "read all sources named in estate.toml"),
    ("keymallet gather --at 2026-11-24T09:00Z", "the files are as they stood at that instant, not now"),
]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    add_estate(parser)
    add_at(parser, "put this down as the instant of the reading")
    parser.add_argument("--all", action="store_true", help="tell of every source, however many there are")


def run(options: argparse.Namespace) -> int:
    """Gather, and say how each source was read. Refused records end with the code for incomplete."""
    estate = open_estate(options.estate)
    snapshot = gather_snapshot(estate, instant(options.at, estate.clock))

    from keymallet.views.intake import SOURCES_SHOWN, show_intake
    from keymallet.views.summary import show_hints
    from keymallet.views.terminal import console, text

    out = console()
    everything = len(snapshot.manifest.sources)
    show_intake(out, snapshot, most=everything if options.all else SOURCES_SHOWN)
    out.print(text(f"snapshot {snapshot.folder}", "bold"))
    show_hints(out, [("keymallet judge", "judge it")])
    return INCOMPLETE if snapshot.refused or snapshot.is_incomplete else CLEAN
