"""Check a rulebook: every fault in it at once, each with its line and what was probably meant."""

from __future__ import annotations

import argparse
from pathlib import Path

from keymallet.commands.common import add_estate, open_estate, read_rulebook_file
from keymallet.commands.main import CLEAN

EXAMPLES = [
    ("keymallet rules check", "the rulebook of the estate"),
    ("keymallet rules check rulebook.toml", "any rulebook"),
]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument("action", choices=("check",), help="check: names, types, limits, terms")
    parser.add_argument("rulebook", nargs="?", metavar="RULEBOOK", help="a rulebook (default: the estate's)")
    add_estate(parser)


def run(options: argparse.Namespace) -> int:
    """Check the rulebook. Raises KeymalletError with every fault."""
    path = Path(options.rulebook) if options.rulebook else open_estate(options.estate).rulebook
    book = read_rulebook_file(path)

    from keymallet.views.rulebook import show_checked
    from keymallet.views.terminal import console

    show_checked(console(), str(path), book)
    return CLEAN
