"""How findings went run by run: in breach, past due, new, mended; how long mending takes; what is open.

What is open longest stands at the end. Drawn with --figure.
"""

from __future__ import annotations

import argparse

from keymallet.commands.arguments.shared import add_estate, number_of

EXAMPLES = [
    ("keymallet trend", "run by run, the last half year"),
    ("keymallet trend --since 8w --by answerer", "what each of those who answer had in breach"),
    ("keymallet trend --figure trend.png", "drawn, for a report"),
]

BY = ("answerer", "unit", "source", "severity")
ROWS = 12


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    add_estate(parser)
    parser.add_argument(
        "--since", metavar="WHEN", default="26w", help="a span like 8w, or a day (default: 26w)"
    )
    parser.add_argument("--by", choices=BY, help="in breach by this, run by run")
    parser.add_argument("--figure", metavar="FILE", help="draw it: a .png or .svg file")
    parser.add_argument(
        "--rows",
        type=number_of("rows"),
        metavar="N",
        default=ROWS,
        help=f"runs shown (default: {ROWS}; 0: all)",
    )
    parser.add_argument("--format", choices=("table", "csv", "json", "jsonl"), default="table",
                        help="table (the default), for people to read; or a row for each run")  # fmt: skip
    parser.add_argument("--output", metavar="FILE", help="write it there instead of printing it")
