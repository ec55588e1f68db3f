"""Make an estate out of a folder of exports, and judge it: the first hour in one command.

Looks at everything in the folder: CSV and JSON exports of accounts, people, roles, keys, factors and
sign-ins, folders and archives of Linux hosts, LDIF. Says what it takes each for, asks what it cannot
tell (at most six questions, each with a default), writes the estate file, the column maps, a rulebook
and an empty register, reads, and judges. No file that is there is written over.

`start add URL` asks a service what it is and what the reader may see of it, and writes its section into the
estate file. Secrets stay where they are: the section names a variable or a file.
"""

from __future__ import annotations

import argparse

from keymallet.commands.arguments.shared import add_estate

EXAMPLES = [
    ("keymallet start", "make an estate of the folder you are in"),
    ("keymallet start exports --yes", "of another folder, and take the default of each question"),
    ("keymallet start exports --look", "only say what each file would be taken for"),
    ("keymallet start exports --answers answers.toml", "answer as last time"),
    (
        "keymallet start add ldaps://directory.gvr.example",
        "add a directory, or begin with it",
    ),
    ("keymallet start add https://scim.cloud.gvr.example/v2", "add a cloud service over SCIM"),
]

ADD = "add"
"""What stands in the place of a folder where a service is added."""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument(
        "folder", metavar="FOLDER", nargs="?", default=".",
        help=f"the folder with the exports (default: here); or {ADD}, with the address of a service",
    )  # fmt: skip
    parser.add_argument(
        "url", metavar="URL", nargs="?", help="the service: ldaps://…, ldap://…, https://… (SCIM)"
    )
    add_estate(parser)
    parser.add_argument("--ca-file", metavar="FILE", help="whose certificates a service is trusted by")
    way = parser.add_mutually_exclusive_group()
    way.add_argument("--yes", action="store_true", help="ask nothing: take the default of each question")
    way.add_argument("--answers", metavar="FILE", help="take the answers from this file; ask for the others")
    way.add_argument("--look", action="store_true", help="say what each file is taken for, and write nothing")
