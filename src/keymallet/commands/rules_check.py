"""Check a rulebook: every fault in it at once, each with its line and what was probably meant."""

from __future__ import annotations

import argparse

from keymallet.commands.books import book_paths, named_or_estates
from keymallet.commands.exit_codes import CLEAN
from keymallet.commands.opening import open_estate
from keymallet.core.explaining.unlocking import read_conditions
from keymallet.core.studies.contradictions import contradictions
from keymallet.views.rulebook import show_checked, show_contradictions
from keymallet.views.terminal import console


def run(options: argparse.Namespace) -> int:
    """Check the rulebook, and what the estate asks with its terms. Raises KeymalletError with every fault."""
    paths = book_paths(options.rulebook, options.estate)
    book = named_or_estates(options.rulebook, options.estate)
    if options.rulebook is None:
        read_conditions(open_estate(options.estate).unlocks, book)

    out = console()
    show_checked(out, ", ".join(map(str, paths)), book)
    show_contradictions(out, contradictions(book))
    return CLEAN
