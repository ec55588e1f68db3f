"""Make the estate of the Gentian Valley Railway, a made-up organisation, and run the day on it.

Everything in it is invented. Each command is shown before it runs; all of them work on your own
files in the same way.
"""

from __future__ import annotations

import argparse
import os
from pathlib import Path

from keymallet.commands.main import BREACH, CLEAN, INCOMPLETE, main

EXAMPLES = [
    ("keymallet demo", "make it in ./gentian-valley-railway"),
    ("keymallet demo try-out", "make it in another folder"),
]
FOLDER = "gentian-valley-railway"
AT = "2026-11-24T09:00Z"
DAY = [
    ("First the accounts are read out of the systems they are in.", ["gather", "--at", AT]),
    ("Then every account is judged by the railway's own rulebook.", ["judge", "--at", AT, "--worst", "4"]),
    ("One account is looked at closely: can this person get in?", ["show", "i.schneetaler", "--at", AT]),
    (
        "All findings go to a file that spreadsheets open.",
        ["judge", "--at", AT, "--format", "csv", "--output", "findings.csv"],
    ),
    ("And the rulebook is checked, as it is before every change to it.", ["rules", "check"]),
]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument(
        "folder", nargs="?", default=FOLDER, metavar="FOLDER", help=f"where to make it (default: {FOLDER})"
    )


def run(options: argparse.Namespace) -> int:
    """Write the estate, then run the day on it. Raises KeymalletError if something else is in the way."""
    from keymallet.core.problems import fail
    from keymallet.demo.railway import write_estate
    from keymallet.views.terminal import console, text

    folder = Path(options.folder)
    if (
        folder.exists()
        and not (folder / "ground-truth.csv").is_file()
        and (not folder.is_dir() or any(folder.iterdir()))
    ):
        raise fail(
            "something else is here already", file=str(folder), hint="name a folder that is new or empty"
        )
    try:
        write_estate(folder)
    except OSError as error:
        raise fail(f"the estate cannot be written: {error.strerror or error}", file=str(folder)) from None
    out = console()
    out.print(
        text("The Gentian Valley Railway is made up: its people, hosts and domains do not exist.", "dim")
    )
    out.print(text(f"Its estate is now in {folder}: estate.toml, rulebook.toml, exports, hosts.", "dim"))
    before = Path.cwd()
    os.chdir(folder)
    try:
        worst = CLEAN
        for told, words in DAY:
            out.print()
            out.print(text(told, "italic"))
            out.print(text(f"$ keymallet {' '.join(words)}", "bold cyan"))
            code = main(words)
            out.print(text(f"(ends with code {code})", "dim"))
            if code not in (CLEAN, BREACH, INCOMPLETE):
                worst = code
    finally:
        os.chdir(before)
    out.print()
    out.print(text(f"Now go on yourself: cd {folder}, and keymallet --help.", "bold"))
    return worst
