"""Print the dictionary of facts: every table, column, word and function that a rule can ask about."""

from __future__ import annotations

import argparse

from keymallet.commands.arguments.shared import add_rows_format
from keymallet.core.facts.declaration import TABLES

EXAMPLES = [
    ("keymallet dictionary", "all tables"),
    ("keymallet dictionary key", "one table"),
    ("keymallet dictionary --format json", "for programs"),
]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument("table", nargs="?", metavar="TABLE", help=f"one of: {', '.join(TABLES)}")
    add_rows_format(parser)
