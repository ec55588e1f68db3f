"""Try another rulebook, or other limits, on the same evidence: who would newly be in breach, who no longer.

Nothing is changed by it. With several --at, the same is counted at later instants, so that a roll-out
can be planned; only time passes in it.
"""

from __future__ import annotations

import argparse

from keymallet.commands.arguments.shared import add_estate, add_register, add_rows_format

EXAMPLES = [
    ("keymallet rehearse --set limit.password-age=90d", "passwords for 90 days instead"),
    (
        "keymallet rehearse --set limit.key-age=60d --set limit.idle=30d --at 2026-11-24 --at 2027-01-01",
        "two limits at once, today and at the new year",
    ),
    (
        "keymallet rehearse --set 'limit.password-age[system-owner]=30d'",
        "only for those whom a term of the rulebook fits",
    ),
    (
        "keymallet rehearse --sweep limit.password-age=30d..365d --figure curve.png",
        "the whole curve of one limit",
    ),
]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument("--rulebook", metavar="FILE", help="the rulebook to try")
    parser.add_argument(
        "--set",
        dest="settings",
        metavar="limit.NAME=VALUE",
        action="append",
        default=[],
        help="a limit to try (repeatable); limit.NAME[TERM]=VALUE for those whom a term of the rulebook fits",
    )
    parser.add_argument(
        "--sweep",
        metavar="limit.NAME=FROM..TO",
        help="count the accounts in breach for one limit after another (/STEP)",
    )
    parser.add_argument("--against", metavar="FILE", help="the rulebook in force (default: the estate's)")
    parser.add_argument(
        "--at",
        metavar="INSTANT",
        action="append",
        default=[],
        help="judge as of this instant; more of them: later ones too",
    )
    parser.add_argument(
        "--snapshot", metavar="FOLDER", help="judge this snapshot (default: the estate's newest)"
    )
    add_register(parser)
    add_rows_format(parser)
    parser.add_argument("--figure", metavar="FILE", help="with --sweep: draw the curve, a .png or .svg file")
    add_estate(parser)
