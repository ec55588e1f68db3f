"""Turn findings into changes that somebody can make, tried on the evidence first.

Keymallet changes no system: it writes files for people to read and run. For directories that is LDIF, for
SCIM services one request a line, for hosts a shell script, each with one that undoes it; for everything a
worksheet with what to do, in which order, and the way back. What would newly break something as grave as
it mends is set aside.

Exit code: 0 everything found its proposal, 1 something is set aside, or only people can mend it, 2 the
request could not be carried out, 3 neither, but the evidence is incomplete.
"""

from __future__ import annotations

import argparse

from keymallet.commands.arguments.shared import add_judging, number_of

EXAMPLES = [
    (
        "keymallet mend --rule api-key-age --preview",
        "what would mend the findings of one rule; nothing is written",
    ),
    (
        "keymallet mend --answerer 'Vera Arvbichler' --into morning",
        "a folder for all that one person answers for",
    ),
    ("keymallet changes --proposals morning", "afterwards: which of these changes have ended their findings"),
]
ROWS = 10


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    which = parser.add_argument_group("which findings")
    which.add_argument(
        "--finding",
        metavar="ID",
        action="append",
        default=[],
        help="this one: its id, or the beginning of it (again for more)",
    )
    which.add_argument(
        "--rule", metavar="RULE", action="append", default=[], help="those of this rule (again for more)"
    )
    which.add_argument(
        "--account", metavar="ACCOUNT", help="those on this account, as source/name, name or mail"
    )
    which.add_argument("--answerer", metavar="WHO", help="those that this one answers for")
    which.add_argument("--all", action="store_true", help="every finding that is in breach")
    parser.add_argument(
        "--into", metavar="FOLDER", help="write the changes, and in which order they go, there"
    )
    parser.add_argument(
        "--preview", action="store_true", help="print what would come of it, and write nothing"
    )
    parser.add_argument(
        "--even-if-it-breaks", action="store_true", help="set nothing aside, and say what would break"
    )
    parser.add_argument(
        "--even-if-old", action="store_true", help="also from evidence that is older than the estate allows"
    )
    parser.add_argument(
        "--rows",
        type=number_of("rows"),
        default=ROWS,
        metavar="N",
        help=f"lines shown of each kind (default: {ROWS})",
    )
    add_judging(parser)
