"""What is open now, by the last run: the late ones first, and whose each is; or the life of one finding."""

from __future__ import annotations

import argparse

from keymallet.commands.arguments.shared import add_estate, add_rows_format, number_of

EXAMPLES = [
    ("keymallet findings", "what is open, the late ones first"),
    ("keymallet findings --answerer 'information security'", "what one of those who answer has to mend"),
    ("keymallet findings --by answerer", "how much each has, and how much of it is late"),
    ("keymallet findings --format csv --output open.csv", "every finding that is not over"),
]

BY = ("answerer", "unit", "rule", "source", "severity", "state")
ROWS = 20


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument(
        "finding", nargs="?", metavar="ID", help="tell the life of this one: its id, or the beginning of it"
    )
    add_estate(parser)
    parser.add_argument(
        "--run", metavar="RUN", help="as of this run: its number, or a day (default: the last)"
    )
    parser.add_argument("--answerer", metavar="WHO", help="only those that this one answers for")
    parser.add_argument("--late", action="store_true", help="only those past their due date")
    parser.add_argument("--by", choices=BY, help="how many, grouped by this")
    parser.add_argument(
        "--rows", type=number_of("rows"), metavar="N", help=f"lines shown (default: {ROWS}; 0: all)"
    )
    add_rows_format(parser)
