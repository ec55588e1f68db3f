"""Look through a batch of accounts before it is loaded: what is ready, what to fix first, and why.

Each row is held against the newest evidence and judged by the rules on planned accounts, and by every
rule that could judge it on its first day. First passwords in the file are looked at and never kept.

Exit code: 0 every row is ready, or arrived as asked; 1 something at or above --fail-on is to be fixed
first, or did not arrive as asked; 2 the request could not be carried out; 3 nothing of that, but
something is not known.
"""

from __future__ import annotations

import argparse

from keymallet.commands.arguments.shared import FAIL_ON, add_judging, add_rows_format, number_of

EXAMPLES = [
    ("keymallet vet joiners.csv --map joiners.toml", "which rows are ready, and what is wrong"),
    (
        "keymallet vet joiners.csv --map joiners.toml --fixed joiners-remarks.csv",
        "the same file with a column of remarks, to be corrected and looked through again",
    ),
    (
        "keymallet vet joiners.csv --map joiners.toml --loaded --fixed again.csv",
        "once it was loaded and keymallet read ran: what to load again",
    ),
]  # fmt: skip

SHOWN = 10


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument(
        "file", metavar="FILE", help="the batch: CSV, JSON, fixed-width text, LDIF, SCIM bulk requests"
    )
    parser.add_argument(
        "--map",
        metavar="MAP",
        help="the column map that reads it; of LDIF and SCIM bulk requests only its [target] counts",
    )
    parser.add_argument(
        "--into",
        metavar="SOURCE",
        help="the source of the estate that it will be loaded into (default: what the map's [target] says)",
    )
    parser.add_argument(
        "--with",
        dest="beside",
        metavar="TABLE=FILE",
        action="append",
        default=[],
        help="a table or list that the map reads from a file of its own: grant=rights.csv, groups=members.csv"
        " (again for each)",
    )
    parser.add_argument(
        "--loaded",
        action="store_true",
        help="after loading and reading: what arrived as asked, what differs, what is missing",
    )
    parser.add_argument(
        "--fixed",
        metavar="FILE",
        help="write the batch there as it stands, with a column of remarks; with --loaded, only the records"
        " that are missing or differ",
    )
    parser.add_argument(
        "--fail-on",
        choices=FAIL_ON,
        default="low",
        help="the least severity that ends with code 1 (default: low)",
    )
    parser.add_argument(
        "--rows",
        type=number_of("rows"),
        default=SHOWN,
        metavar="N",
        help=f"rows shown one by one (default: {SHOWN})",
    )
    parser.add_argument("--all", action="store_true", help="show every row that is not ready")
    add_judging(parser)
    add_rows_format(parser)
