"""Look at one topic in depth: the report, what is worst, and what the rulebook says of it."""

from __future__ import annotations

import argparse

from keymallet.commands.arguments.shared import add_judging, add_rows_format, number_of

EXAMPLES = [
    ("keymallet view factors", "who has which factors, and who has to use them"),
    ("keymallet view factors --by unit --figure coverage.png", "coverage by unit, and a report of it"),
    ("keymallet view factors --format csv --output factors.csv", "a line for every account"),
    ("keymallet view elevation --part openings --format csv", "every opening, and what to correct"),
]


TOPICS = ("factors", "passwords", "lockouts", "exemptions", "elevation", "temporary")
WORST = 5
ROWS_IN_SHORT, ROWS = 3, 12


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument("topic", metavar="TOPIC", help=f"which: {', '.join(TOPICS)}")
    parser.add_argument(
        "--by", metavar="COLUMN", help="group by this: unit, kind, source, answerer, manager and the like"
    )
    parser.add_argument("--figure", metavar="FILE", help="draw it: a .png or .svg file")
    add_rows_format(parser)
    parser.add_argument("--groups", action="store_true", help="with --format: a row for each group instead")
    parser.add_argument(
        "--part",
        metavar="NAME",
        help="with --format: the rows of one of its tables, such as gates or openings",
    )
    parser.add_argument("--rows", type=number_of("rows"), metavar="N",
                        help=f"rows of the list (default: {ROWS_IN_SHORT}, with --all {ROWS})")  # fmt: skip
    parser.add_argument("--worst", type=number_of("accounts"), default=WORST, metavar="N",
                        help=f"with --all: accounts in breach shown (default: {WORST})")  # fmt: skip
    parser.add_argument("--all", action="store_true",
                        help="every group, its tables, and what the rulebook says of it")  # fmt: skip
    add_judging(parser)
