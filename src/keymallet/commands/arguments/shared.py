"""Arguments that several commands share."""

from __future__ import annotations

import argparse
from collections.abc import Callable

from keymallet.outputs.formats import FORMATS

FAIL_ON = ("critical", "high", "medium", "low", "never")
"""What --fail-on takes."""


def add_estate(parser: argparse.ArgumentParser) -> None:
    """Add --estate."""
    parser.add_argument(
        "--estate", metavar="FILE", default="estate.toml", help="the estate file (default: estate.toml here)"
    )


def add_at(parser: argparse.ArgumentParser, what: str) -> None:
    """Add --at."""
    parser.add_argument(
        "--at", metavar="INSTANT", help=f"{what}, like 2026-11-24 or 2026-11-24T09:00Z (default: now)"
    )


def add_judging(parser: argparse.ArgumentParser) -> None:
    """Add the options of everything that judges."""
    add_estate(parser)
    parser.add_argument(
        "--snapshot", metavar="FOLDER", help="judge this snapshot (default: the estate's newest)"
    )
    parser.add_argument("--rulebook", metavar="FILE", help="judge by this rulebook (default: the estate's)")
    add_register(parser)
    add_at(parser, "judge as of this instant")


def add_workers(parser: argparse.ArgumentParser) -> None:
    """Add --workers."""
    parser.add_argument(
        "--workers",
        type=number_of("processes"),
        metavar="N",
        help="judge the shards of a large snapshot by so many processes (default: one for each core)",
    )


def add_register(parser: argparse.ArgumentParser) -> None:
    """Add --register."""
    parser.add_argument(
        "--register", metavar="FILE", help="the register of exemptions (default: the estate's, if it has one)"
    )


def add_actions(parser: argparse.ArgumentParser) -> Callable[[str, str], argparse.ArgumentParser]:
    """Let a command have actions; what is returned adds one by its name and purpose."""
    actions = parser.add_subparsers(dest="action", required=True, metavar="ACTION")

    def action(name: str, purpose: str) -> argparse.ArgumentParser:
        return actions.add_parser(
            name, help=purpose, description=f"{purpose[:1].upper()}{purpose[1:]}.", allow_abbrev=False
        )

    return action


def number_of(noun: str) -> Callable[[str], int]:
    """The type of an argument that says how many lines to show."""

    def read(written: str) -> int:
        if not written.isdigit() or len(written) > 6:
            raise argparse.ArgumentTypeError(f'"{written}" is no number of {noun}')
        return int(written)

    return read


def add_rows_format(parser: argparse.ArgumentParser) -> None:
    """Add --format and --output of commands that give rows."""
    formats = "; ".join(f"{name}: {form.meaning}" for name, form in FORMATS.items())
    parser.add_argument(
        "--format",
        choices=("table", *FORMATS),
        default="table",
        help=f"table (the default), for people to read; {formats}",
    )
    parser.add_argument(
        "--spreadsheet",
        action="store_true",
        help="with --format csv: for spreadsheets, which take =1+1 for a formula and want a mark of UTF-8",
    )
    parser.add_argument("--output", metavar="FILE", help="write it there instead of printing it")
