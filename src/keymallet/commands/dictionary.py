"""Print the dictionary: every table, column and word that a rule can ask about."""

from __future__ import annotations

import argparse
import sys

from keymallet.commands.main import CLEAN
from keymallet.core.facts.declaration import TABLES

EXAMPLES = [
    ("keymallet dictionary", "all tables"),
    ("keymallet dictionary key", "one table"),
    ("keymallet dictionary --format json", "for programs"),
]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument("table", nargs="?", metavar="TABLE", help=f"one of: {', '.join(TABLES)}")
    parser.add_argument("--format", choices=("table", "json", "csv"), default="table", help="default: table")


def run(options: argparse.Namespace) -> int:
    """Print the declaration of the fact tables."""
    from keymallet.core.base.nearest import did_you_mean
    from keymallet.core.base.problems import KeymalletError, Problem

    if options.table and options.table not in TABLES:
        hint = did_you_mean(options.table, TABLES) or f"there are: {', '.join(TABLES)}"
        raise KeymalletError(Problem(f'there is no table "{options.table}"', hint=hint))
    tables = [TABLES[options.table]] if options.table else list(TABLES.values())
    if options.format != "table":
        from keymallet.outputs.dictionary import FORMATS

        sys.stdout.write(FORMATS[options.format](tables))
        return CLEAN
    from keymallet.views.dictionary import show_dictionary
    from keymallet.views.terminal import console

    show_dictionary(console(), tables)
    return CLEAN
