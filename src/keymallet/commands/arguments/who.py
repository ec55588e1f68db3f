"""Pick accounts, or any other rows, by an expression of the rule language: any question, any columns.

The rulebook's terms and limits can be used by name. Rows for which data is missing are
counted, not listed.
"""

from __future__ import annotations

import argparse

from keymallet.commands.arguments.shared import add_judging, add_rows_format, add_workers

EXAMPLES = [
    ("keymallet who 'privileged and no factor (phishing-resistant)'", "power without a strong factor"),
    (
        "keymallet who 'age(last-sign-in) > limit.idle' --columns 'unit, last-sign-in' --sort last-sign-in",
        "who has not signed in for longest, with columns of your choice",
    ),
    ("keymallet who 'enabled and locked' --count-by 'source, unit'", "how many, where"),
    ("keymallet who 'kind = api-key and state = active' --each key --format csv", "every working API key"),
]  # fmt: skip


SHOWN = 40


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument("expression", metavar="EXPRESSION", help="a condition that the rows have to meet")
    parser.add_argument(
        "--each", metavar="TABLE", default="account", help="pick rows of this table (default: account)"
    )
    parser.add_argument(
        "--columns",
        metavar="LIST",
        help="facts or expressions to show, or answerer, with commas between (default: those asked about)",
    )
    parser.add_argument(
        "--count-by",
        metavar="LIST",
        help="how many rows there are for each value of these, the most first: facts, expressions, answerer",
    )
    parser.add_argument("--sort", metavar="EXPRESSION", help="the smallest or earliest first")
    parser.add_argument("--reverse", action="store_true", help="with --sort: the largest or latest first")
    parser.add_argument("--unknown", action="store_true", help="list those for which data is missing")
    add_rows_format(parser)
    parser.add_argument("--all", action="store_true", help=f"print every row, not only the first {SHOWN}")
    add_judging(parser)
    add_workers(parser)
