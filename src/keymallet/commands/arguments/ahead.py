"""Show what will turn to breach and when, if nothing changes: by week, by rule, and what is first.

Only time passes in it: what people and systems do until then is not known.
"""

from __future__ import annotations

import argparse
import re

from keymallet.commands.arguments.shared import add_judging, add_rows_format, add_workers, number_of

EXAMPLES = [
    ("keymallet ahead", "the next 90 days, week by week"),
    (
        "keymallet ahead --for 26w --capacity 12/week --spread",
        "half a year, and a plan that keeps every week within the capacity",
    ),
    (
        "keymallet ahead --figure ahead.png --calendar ahead.ics",
        "the same as a figure, and for your calendar",
    ),
]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument(
        "--for", dest="span", metavar="SPAN", default="90d", help="how far to look: 90d, 26w (default: 90d)"
    )
    parser.add_argument(
        "--capacity",
        metavar="N/week",
        type=_capacity,
        help="how much can be corrected in a week, like 40/week",
    )
    parser.add_argument(
        "--spread",
        action="store_true",
        help="plan a day for each, so that no week exceeds the capacity and all is done in time",
    )
    parser.add_argument(
        "--most", type=number_of("findings"), default=12, metavar="N", help="how many to list (default: 12)"
    )
    add_rows_format(parser)
    parser.add_argument("--figure", metavar="FILE", help="draw the weeks: a .png or .svg file")
    parser.add_argument("--calendar", metavar="FILE", help="write an iCalendar file")
    parser.add_argument(
        "--by",
        choices=("account", "day"),
        default="account",
        help="with --calendar: an event for each (default: account)",
    )
    add_judging(parser)
    add_workers(parser)


def _capacity(written: str) -> int:
    match = re.fullmatch(r"(\d{1,7})(?:/week)?", written)
    if not match or not int(match[1]):
        raise argparse.ArgumentTypeError(f'"{written}" is no capacity: write it like 40/week')
    return int(match[1])
