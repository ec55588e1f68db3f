"""Read the sources of the estate into a snapshot: fact tables, and a note of everything not read."""

from __future__ import annotations

import argparse

from keymallet.commands.arguments.shared import add_at, add_estate

EXAMPLES = [
    ("keymallet read", "read all sources named in estate.toml"),
    ("keymallet read --only ticketing", "read one anew; the others stay as they were read before"),
    ("keymallet read --dry-run", "see how each source would be read, and write nothing"),
    ("keymallet read --refused refused.csv", "the rows that were refused, to be corrected and read again"),
    ("keymallet read --collect-script > collect.sh", "a script to run on a host, which packs its files"),
    ("keymallet read --at 2026-11-24T09:00Z", "the files are as they stood at that instant, not now"),
]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    add_estate(parser)
    add_at(parser, "record this as the instant of the reading")
    parser.add_argument(
        "--only", metavar="SOURCE", action="append", default=[], help="read this source alone; repeatable"
    )
    parser.add_argument(
        "--accept-drop", action="store_true", help="accept that a source lost many of its accounts"
    )
    parser.add_argument(
        "--dry-run", action="store_true", help="show the first accounts of each, write nothing"
    )
    parser.add_argument(
        "--refused",
        metavar="FILE",
        help="write the rows of exports that were refused here, as they stood",
    )
    parser.add_argument(
        "--collect-script",
        action="store_true",
        help="print a shell script that puts a Linux host's files together; read nothing",
    )
    parser.add_argument("--all", action="store_true", help="report every source, however many there are")
