"""What changed from one run to the next: what is new, late, back, mended or not seen, and why.

Each change has one cause, found by judging step by step: time alone, the rulebook, the register, or the
facts. With --proposals it tells instead which of the changes that were proposed have ended their findings.
Exit code: 0 nothing new at or above --fail-on, 1 something is, 2 it could not be carried out,
3 nothing is, but some sources were not read.
"""

from __future__ import annotations

import argparse

from keymallet.commands.arguments.shared import (
    FAIL_ON,
    add_estate,
    add_rows_format,
    number_of,
)

EXAMPLES = [
    ("keymallet changes", "between the last two runs"),
    ("keymallet changes --from 2026-11-24 --all", "since the last run up to that day, line by line"),
    ("keymallet changes --by answerer", "by who answers for it; also by unit, rule, source or cause"),
    ("keymallet changes --format csv --output changes.csv", "a line for every change"),
]

BY = ("answerer", "unit", "rule", "source", "cause")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    add_estate(parser)
    run = "a run's number, the beginning of its head, or a day"
    parser.add_argument("--from", dest="start", metavar="RUN", help=f"{run} (default: the run before --to)")
    parser.add_argument("--to", dest="end", metavar="RUN", help=f"{run} (default: the last run)")
    parser.add_argument(
        "--proposals", metavar="FOLDER", help="what became of the changes that keymallet mend wrote there"
    )
    parser.add_argument("--by", choices=BY, help="how much of each, grouped by this")
    parser.add_argument("--rows", type=number_of("rows"), metavar="N",
                        help="lines shown of each kind (default: 3, with --all every one)")  # fmt: skip
    parser.add_argument("--all", action="store_true", help="every change, with what exactly changed")
    add_rows_format(parser)
    parser.add_argument(
        "--fail-on",
        choices=FAIL_ON,
        default="high",
        help="the least severity of something new that ends with code 1 (default: high)",
    )
