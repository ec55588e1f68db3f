"""Print the dictionary: every table, column and word that a rule can ask about."""

from __future__ import annotations

import argparse
import sys

from keymallet.commands.exit_codes import CLEAN
from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.problems import KeymalletError, Problem
from keymallet.core.facts.declaration import TABLES
from keymallet.outputs.dictionary import FORMATS
from keymallet.views.dictionary import show_dictionary
from keymallet.views.terminal import console


def run(options: argparse.Namespace) -> int:
    """Print the declaration of the fact tables."""
    if options.table and options.table not in TABLES:
        hint = did_you_mean(options.table, TABLES) or f"there are: {', '.join(TABLES)}"
        raise KeymalletError(Problem(f'there is no table "{options.table}"', hint=hint))
    tables = [TABLES[options.table]] if options.table else list(TABLES.values())
    if options.format != "table":
        sys.stdout.write(FORMATS[options.format](tables))
        return CLEAN

    show_dictionary(console(), tables)
    return CLEAN
