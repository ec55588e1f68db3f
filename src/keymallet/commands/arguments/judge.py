"""Judge every account by the rulebook: who falls short, why, and what could not be told.

Exit code: 0 nothing in breach at or above --fail-on, 1 something is, 2 the request could not be
carried out, 3 nothing is, but the evidence is incomplete.
"""

from __future__ import annotations

import argparse

from keymallet.commands.arguments.shared import add_judging, add_rows_format, number_of

EXAMPLES = [
    ("keymallet judge", "judge the newest snapshot and show the summary"),
    ("keymallet judge --format csv --output findings.csv", "every finding, for a spreadsheet or a program"),
    (
        "keymallet judge --at 2026-12-24 --fail-on critical",
        "as it will stand on that day, if nothing changes",
    ),
]


WORST = 8
_FAIL_ON = ("critical", "high", "medium", "low", "never")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    add_judging(parser)
    add_rows_format(parser)
    parser.add_argument(
        "--fail-on",
        choices=_FAIL_ON,
        default="high",
        help="the least severity that ends with code 1 (default: high)",
    )
    parser.add_argument(
        "--worst",
        type=number_of("accounts"),
        default=WORST,
        metavar="N",
        help=f"accounts shown (default: {WORST})",
    )
    parser.add_argument(
        "--all-rules", action="store_true", help="a line for every rule, however many there are"
    )
