"""Print the dictionary of facts: every table, column, word and function that a rule can ask about."""

from __future__ import annotations

import argparse

from keymallet.commands.exit_codes import CLEAN
from keymallet.commands.writing import output_stream, write_rows
from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.problems import fail
from keymallet.core.facts.declaration import TABLES
from keymallet.outputs.dictionary import dictionary_rows
from keymallet.views.dictionary import show_dictionary
from keymallet.views.terminal import console


def run(options: argparse.Namespace) -> int:
    """Print one table or all of them. Raises KeymalletError for a table there is not."""
    if options.table is not None and options.table not in TABLES:
        hint = did_you_mean(options.table, TABLES) or f"there are: {', '.join(TABLES)}"
        raise fail(f'there is no table "{options.table}"', hint=hint)
    tables = [TABLES[options.table]] if options.table else list(TABLES.values())
    if options.format != "table":
        write_rows(options, dictionary_rows(tables), {}, "columns")
        return CLEAN
    with output_stream(options.output) as stream:
        show_dictionary(console(stream), tables)
    return CLEAN
