"""Check a rulebook: every fault in it at once, each with its line and what was probably meant."""

from __future__ import annotations

import argparse

from keymallet.commands.books import book_path, read_rulebook_file
from keymallet.commands.exit_codes import CLEAN
from keymallet.views.rulebook import show_checked
from keymallet.views.terminal import console


def run(options: argparse.Namespace) -> int:
    """Check the rulebook. Raises KeymalletError with every fault."""
    path = book_path(options.rulebook, options.estate)
    book = read_rulebook_file(path)

    show_checked(console(), str(path), book)
    return CLEAN
