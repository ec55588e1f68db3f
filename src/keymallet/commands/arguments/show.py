"""Show everything known of one account: how it gets in, facts and their sources, verdicts and why."""

from __future__ import annotations

import argparse

from keymallet.commands.arguments.shared import add_judging

EXAMPLES = [
    ("keymallet show directory/emergency-2", "one account of one source"),
    ("keymallet show ticketing/tix-1/n.arvstetter", "can this person get in, how, and until when?"),
    ("keymallet show root", "every account of that login name, whichever source it is in"),
]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument("account", help="source/name, or a login name or mail address")
    add_judging(parser)
