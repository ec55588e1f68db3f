"""Show a rulebook as it stands after its includes, or one rule with all that it rests on."""

from __future__ import annotations

import argparse

from keymallet.commands.books import named_or_estates
from keymallet.commands.exit_codes import CLEAN
from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.problems import fail
from keymallet.sources.rulebooks import names_a_book
from keymallet.views.rulebook import show_book, show_demand, show_tree
from keymallet.views.terminal import console


def run(options: argparse.Namespace) -> int:
    """Show it. Raises KeymalletError if the book has faults, or no such rule."""
    # One name alone is a rulebook's if it is a file or ships; else a rule's of the estate.
    if options.rule is None and options.rulebook and not names_a_book(options.rulebook):
        options.rule, options.rulebook = options.rulebook, None
    book = named_or_estates(options.rulebook, options.estate)
    out = console()
    if options.rule is None:
        if options.tree:
            raise fail("--tree shows one rule", hint="name it: keymallet rules show RULE --tree")
        show_book(out, book)
        return CLEAN
    demands = {demand.id: demand for demand in book.demands}
    if options.rule not in demands:
        hint = did_you_mean(options.rule, demands) or "keymallet rules show lists them"
        raise fail(f'the rulebook has no rule "{options.rule}"', hint=hint)
    (show_tree if options.tree else show_demand)(out, book, demands[options.rule])
    return CLEAN
