"""Judge every account by the rulebook: who falls short, why, and for what data is missing.

Exit code: 0 nothing in breach at or above --fail-on, 1 something is, 2 the request could not be
carried out, 3 nothing is, but the evidence is incomplete.
"""

from __future__ import annotations

import argparse

from keymallet.commands.arguments.shared import FAIL_ON, add_judging, add_rows_format, add_workers, number_of

EXAMPLES = [
    ("keymallet judge", "judge the newest snapshot: how it came out, and the worst accounts"),
    ("keymallet judge --all", "every rule, and why each of the worst accounts falls short"),
    ("keymallet judge --format csv --output findings.csv", "every finding, for a spreadsheet or a program"),
    (
        "keymallet judge --at 2026-12-24 --fail-on critical",
        "as it will stand on that day, if nothing changes",
    ),
]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    add_judging(parser)
    add_rows_format(parser)
    parser.add_argument(
        "--sealed",
        metavar="FILE",
        help="judge this sealed run again, and say whether every verdict is the same",
    )
    parser.add_argument(
        "--record",
        action=argparse.BooleanOptionalAction,
        help="write the run into the estate's logbook (default: yes, unless --at, --snapshot, --rulebook"
        " or --register make it a trial)",
    )
    parser.add_argument(
        "--fail-on",
        choices=FAIL_ON,
        default="high",
        help="the least severity that ends with code 1 (default: high)",
    )
    parser.add_argument(
        "--worst",
        type=number_of("accounts"),
        metavar="N",
        help="accounts shown (default: 5, with --all 8)",
    )
    add_workers(parser)
    parser.add_argument(
        "--all",
        action="store_true",
        help="rule by rule, account by account with reasons, settings, register, and what was not read",
    )
