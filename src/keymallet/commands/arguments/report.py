"""Turn a run into something for somebody else: a page, a workbook, the text of a ticket, and open formats.

Each report says what it rests on: who was judged when, by which rulebook, on which evidence, with all
digests; and at its top whether the evidence is incomplete. What is narrowed holds only what is asked for, and
nothing of anybody else's.
"""

from __future__ import annotations

import argparse

from keymallet.commands.arguments.shared import add_estate
from keymallet.reports.registry import REPORTS

EXAMPLES = [
    ("keymallet report --into reports", "the last run as a page"),
    ("keymallet report --format page --format workbook --into reports", "several at once"),
    (
        "keymallet report --format markdown --severity critical --output critical.md",
        "part of it, in one file",
    ),
    ("keymallet report --format letter --each answerer --into letters", "a letter to each who answers"),
    ("keymallet report --format letter --each answerer --send --dry-run", "to whom what would be sent"),
    ("keymallet report --list", "every format, and for whom it is"),
]

EACH = ("answerer", "unit", "source")
NARROWED = ("topic", "severity", "rule", "unit", "source", "answerer", "state")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument(
        "run", nargs="?", metavar="RUN", help="a run's number, or a day (default: the last run)"
    )
    add_estate(parser)
    parser.add_argument("--list", action="store_true", help="say every format, for whom it is, what it needs")
    parser.add_argument(
        "--format",
        action="append",
        choices=sorted(REPORTS),
        metavar="FORMAT",
        help=f"repeatable: {', '.join(REPORTS)} (default: page)",
    )
    parser.add_argument("--output", metavar="FILE", help="write the one report into this file")
    parser.add_argument("--into", metavar="FOLDER", help="write the reports into this folder")
    parser.add_argument("--each", choices=EACH, help="one report for each, with nothing but its own")
    parser.add_argument("--finding", metavar="ID", help="one finding alone: the text of a ticket")
    for name in NARROWED:
        parser.add_argument(
            f"--{name}", action="append", metavar=name.upper(), help=f"only these {_plural(name)}; repeatable"
        )
    parser.add_argument(
        "--send",
        action="store_true",
        help="send letters by the estate's [mail] server, each once a run; syslog to its [syslog] server",
    )
    parser.add_argument("--dry-run", action="store_true", help="with --send: say to whom what would go")
    parser.add_argument(
        "--again", action="store_true", help="with --send: also letters that were sent, or may have been"
    )
    parser.add_argument(
        "--spreadsheet",
        action="store_true",
        help="CSV for a spreadsheet: a byte order mark in front, and no text is taken for a formula",
    )
    parser.add_argument(
        "--template", metavar="FOLDER", help="an organisation's own look: page.html, page.css, colours.css"
    )


def _plural(name: str) -> str:
    return "severities" if name == "severity" else f"{name}s"
