"""Guess the column map of a CSV or JSON export from its headers and values, for you to confirm.

Shows which fact each column is taken for, how sure that is, and what would not be understood; the map
is written with --output. Nothing is guessed when sources are read: only a map in the estate counts. Of a
file above 24 MB, pieces from all over it are looked at.
"""

from __future__ import annotations

import argparse

from keymallet.commands.arguments.shared import add_estate

EXAMPLES = [
    ("keymallet fit exports/accounts.csv", "what would each column be?"),
    ("keymallet fit exports/staff.jsonl --output roster-map.toml", "write the map, to be looked over"),
    ("keymallet fit exports/accounts.csv exports/keys.csv", "what goes with what, by which column?"),
    ("keymallet fit exports/accounts.csv --set manager= --set display=Name", "correct it at once"),
]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument(
        "file",
        metavar="FILE",
        nargs="+",
        help="a CSV export, or JSON: one record a line, or a list; of several, what goes with what",
    )
    parser.add_argument("--output", metavar="MAP", help="write the map to this new file")
    parser.add_argument(
        "--table",
        metavar="TABLE",
        help="what its rows are, such as account, person or key (default: guessed)",
    )
    parser.add_argument(
        "--set",
        metavar="FACT=COLUMN",
        action="append",
        default=[],
        help="this fact is that column; with no column, the fact is left out; repeatable",
    )
    add_estate(parser)
