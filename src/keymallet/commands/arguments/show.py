"""Show one account: how it gets in, what falls short and what to do; with --all everything known of it."""

from __future__ import annotations

import argparse

from keymallet.commands.arguments.shared import add_judging, add_workers

EXAMPLES = [
    ("keymallet show directory/emergency-2", "one account of one source"),
    ("keymallet show ticketing/tix-1/n.arvstetter", "can this person get in, how, and until when?"),
    ("keymallet show 'Oda Gratacher'", "the accounts of a person, by name or number, or by a part of one"),
    ("keymallet show root", "every account of that login name, whichever source it is in"),
]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument(
        "account",
        help="source/name, or a login name, mail address, name or number of a person, or a part of one",
    )
    parser.add_argument(
        "--all", action="store_true", help="every verdict, fact and date, and where each fact comes from"
    )
    add_judging(parser)
    add_workers(parser)
