"""The register of exemptions: who is left out of which rules, why, approved by whom, and until when.

Edits keep the file's comments and order. What an exemption covers is judged all the same: it shows as
exempt, is counted, and is a breach again from the day on which the exemption ends.
"""

from __future__ import annotations

import argparse

from keymallet.commands.arguments.shared import add_actions, add_judging, add_rows_format

EXAMPLES = [
    ("keymallet exempt list", "every entry: whether it holds, what it covers, what to correct"),
    (
        "keymallet exempt add tills --kind technical --account 'directory/counter-*' --rule password-age "
        "--reason 'Tills are opened by staff card; their passwords are never typed.' "
        "--asked-by ticketing --approved-by 'information security' --until 2027-03-01",
        "enter one, with the sentence that explains it",
    ),
    (
        "keymallet exempt review counter-tills --approved-by 'information security'",
        "confirm one, and all that it covers today",
    ),
    ("keymallet exempt end back-from-leave", "end one now"),
    (
        "keymallet exempt used break-glass-west --on 2026-11-19T00:12 --by 'shift lead, control centre west' "
        "--reason 'The sign-in service was down after the lightning strike.'",
        "explain the use of an emergency account",
    ),
    (
        "keymallet exempt import exceptions.csv --map exceptions-map.toml --dry-run",
        "take over a list that was kept in a spreadsheet; fit guesses the map",
    ),
]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the actions, each with its own arguments."""
    action = add_actions(parser)

    listed = action("list", "show the entries: which are in force, what they cover, what to correct")
    add_rows_format(listed)
    add_judging(listed)

    add = action("add", "enter an exemption, if nothing about it is wrong")
    add.add_argument("entry", metavar="ID", help="what it is called: small letters, digits and hyphens")
    add.add_argument("--kind", required=True, help="emergency, technical, accepted-risk or transition")
    add.add_argument(
        "--account", action="append", required=True, metavar="PATTERN", dest="accounts",
        help="whom it covers: source/name, or a login name, with * and ? (may be given again)",
    )  # fmt: skip
    add.add_argument(
        "--rule", action="append", default=[], metavar="PATTERN", dest="rules",
        help="the rules it is about, with * and ? (may be given again)",
    )  # fmt: skip
    add.add_argument(
        "--gate", action="append", default=[], metavar="PATTERN", dest="gates",
        help="the sign-in requirements that may leave it out (may be given again)",
    )  # fmt: skip
    add.add_argument("--reason", required=True, help="why, in a sentence")
    add.add_argument("--asked-by", required=True, metavar="WHO", help="who asked for it")
    add.add_argument("--approved-by", required=True, metavar="WHO", help="who approved it: somebody else")
    add.add_argument("--from", dest="start", metavar="DAY", help="the first day with it (default: now)")
    add.add_argument("--until", metavar="DAY", help="the first day without it")
    add.add_argument(
        "--review-every", metavar="SPAN", default="180d", help="how often it is reviewed (default: 180d)"
    )
    add.add_argument(
        "--watch", action="append", default=[], metavar="WHO", help="who is told when it is used"
    )
    add.add_argument("--safeguards", default="", help="what limits the harm meanwhile")
    add_judging(add)

    end = action("end", "end an exemption, now or on a day")
    end.add_argument("entry", metavar="ID", help="which")
    end.add_argument("--on", metavar="DAY", help="the first day without it (default: now)")
    add_judging(end)

    review = action("review", "confirm that an exemption is still right")
    review.add_argument("entry", metavar="ID", help="which")
    review.add_argument("--until", metavar="DAY", help="a new term from now: the first day without it")
    review.add_argument(
        "--approved-by", metavar="WHO", help="who approves all that it covers today, where that is more"
    )
    review.add_argument("--drilled", action="store_true", help="an emergency account was tried just now")
    add_judging(review)

    used = action("used", "note that an emergency account was used, and why")
    used.add_argument("entry", metavar="ID", help="which")
    used.add_argument("--on", metavar="INSTANT", help="when it was used (default: now)")
    used.add_argument("--until", metavar="INSTANT", help="when the use was over (default: a day later)")
    used.add_argument("--by", metavar="WHO", required=True, help="who used it")
    used.add_argument("--reason", required=True, help="why, in a sentence")
    add_judging(used)

    brought = action("import", "enter a list that was kept elsewhere: all of it, or nothing")
    brought.add_argument("file", metavar="FILE", help="the list: CSV, or JSON")
    brought.add_argument(
        "--map", metavar="MAP", required=True, help="which column is what: [exemption.columns]"
    )
    brought.add_argument("--dry-run", action="store_true", help="check it, and write nothing")
    add_judging(brought)
