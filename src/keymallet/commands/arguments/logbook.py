"""The logbook of runs: which there were, what each rests on, and whether all of it is as it was written."""

from __future__ import annotations

import argparse

from keymallet.commands.arguments.shared import add_actions, add_estate, number_of

EXAMPLES = [
    ("keymallet logbook list", "the runs, the last first: how each came out"),
    ("keymallet logbook show 1", "what one run rests on: rulebook, register, snapshot, sources, gaps"),
    (
        "keymallet logbook seal 1 --output run-1.zip",
        "all an auditor needs: keymallet judge --sealed run-1.zip",
    ),
    ("keymallet logbook prune --keep 26w", "make room: findings older than half a year go, the chain stays"),
    (
        "keymallet logbook verify",
        "whether any run, text or finding was altered, removed, put in or reordered",
    ),
]
ROWS = 15


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the actions, each with its own arguments."""
    action = add_actions(parser)

    listed = action("list", "list the runs, the last first: when each was, and how it came out")
    add_estate(listed)
    listed.add_argument(
        "--rows",
        type=number_of("rows"),
        default=ROWS,
        metavar="N",
        help=f"runs shown (default: {ROWS}; 0: all)",
    )

    show = action("show", "show what one run rests on, and how it came out")
    show.add_argument("run", metavar="RUN", help="its number, the beginning of its head, or a day")
    add_estate(show)

    seal = action("seal", "pack everything one run rests on into one file, to be judged again anywhere")
    seal.add_argument("run", metavar="RUN", help="its number, the beginning of its head, or a day")
    seal.add_argument("--output", metavar="FILE", required=True, help="the file to write: a new one")
    seal.add_argument(
        "--pseudonyms", action="store_true", help="tokens in place of names, mail addresses and shown names"
    )
    add_estate(seal)

    verify = action("verify", "check that every run is as it was written, and none is missing")
    verify.add_argument(
        "--head",
        metavar="DIGEST",
        help="a head that judge printed: the run it names has to be in the logbook",
    )
    verify.add_argument(
        "--key", metavar="FILE", help="the public key (PEM) that every run has to be signed by"
    )
    add_estate(verify)

    prune = action("prune", "remove the findings of old runs; the chain of runs stays whole")
    prune.add_argument(
        "--keep",
        required=True,
        metavar="HOW-MUCH",
        help="findings that are kept: a span like 26w, or of so many runs: 30",
    )
    prune.add_argument("--dry-run", action="store_true", help="say what would go, and remove nothing")
    add_estate(prune)
