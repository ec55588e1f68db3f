"""Make an estate out of a folder of exports, and judge it: the first hour in one command.

Looks at everything in the folder: CSV and JSON exports of accounts, people, roles, keys, factors and
sign-ins, folders and archives of Linux hosts, LDIF. Says what it takes each for, asks what it cannot
tell (at most six questions, each with a default), writes the estate file, the column maps, a rulebook
and an empty register, reads, and judges. No file that is there is written over.
"""

from __future__ import annotations

import argparse

EXAMPLES = [
    ("keymallet start", "make an estate of the folder you are in"),
    ("keymallet start exports --yes", "of another folder, and take the default of each question"),
    ("keymallet start exports --look", "only say what each file would be taken for"),
    ("keymallet start exports --answers answers.toml", "answer as last time"),
]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument(
        "folder", metavar="FOLDER", nargs="?", default=".", help="the folder with the exports (default: here)"
    )
    way = parser.add_mutually_exclusive_group()
    way.add_argument("--yes", action="store_true", help="ask nothing: take the default of each question")
    way.add_argument("--answers", metavar="FILE", help="take the answers from this file; ask for the others")
    way.add_argument("--look", action="store_true", help="say what each file is taken for, and write nothing")
