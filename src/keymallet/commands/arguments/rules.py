"""Work on rulebooks: check them, see how they stand, try their cases, start one, compare two.

Where no rulebook is named, it is the estate's. A bare name, like `base`, is one that ships.
"""

from __future__ import annotations

import argparse

from keymallet.commands.arguments.shared import add_actions, add_estate, add_rows_format

EXAMPLES = [
    ("keymallet rules check", "every fault of the estate's rulebook at once"),
    ("keymallet rules show password-age", "one rule, with each term and limit it uses"),
    ("keymallet rules try base", "the cases of a rulebook that ships, and what they leave untried"),
    ("keymallet rules new --from base my-rules.toml", "start a rulebook on one that ships"),
    ("keymallet rules compare rulebook.toml base", "what changes from one book to the other, in words"),
]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the actions, each with its own arguments."""
    action = add_actions(parser)

    check = action("check", "check names, types, limits and terms: every fault at once")
    check.add_argument("rulebook", nargs="?", metavar="RULEBOOK", help="a rulebook (default: the estate's)")
    add_estate(check)

    show = action("show", "show the book as it stands after its includes, or one rule of it in full")
    show.add_argument("rulebook", nargs="?", metavar="RULEBOOK", help="a rulebook (default: the estate's)")
    show.add_argument("rule", nargs="?", metavar="RULE", help="the id of a rule (default: the whole book)")
    show.add_argument("--tree", action="store_true", help="show how the rule's expressions are understood")
    add_estate(show)

    tried = action("try", "try the cases beside a rulebook, and show what they leave untried")
    tried.add_argument("rulebook", nargs="?", metavar="RULEBOOK", help="a rulebook (default: the estate's)")
    tried.add_argument(
        "cases", nargs="?", metavar="CASES", help="its cases (default: NAME.cases.toml beside it)"
    )
    tried.add_argument("--rule", metavar="ID", help="only the cases of this rule")
    tried.add_argument(
        "--strict", action="store_true", help="end with code 1 also where something is left untried"
    )
    add_estate(tried)

    new = action("new", "start a rulebook on one that ships")
    new.add_argument("file", nargs="?", metavar="FILE", help="the file to write (default: print it)")
    new.add_argument(
        "--from", dest="base", metavar="NAME", help="the rulebook to build on (default: list them)"
    )
    new.add_argument("--whole", action="store_true", help="copy it whole, instead of including it")

    compare = action("compare", "say in words what changes from one book to another")
    compare.add_argument("before", metavar="A", help="a rulebook")
    compare.add_argument("after", metavar="B", help="another")
    compare.add_argument(
        "--snapshot", metavar="FOLDER", help="compare on this evidence (default: the estate's newest)"
    )
    compare.add_argument("--at", metavar="INSTANT", help="as of this instant (default: now)")
    add_rows_format(compare)
    add_estate(compare)
