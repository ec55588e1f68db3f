"""The parser of each command, and the one of all of them together that the shell's completion asks."""

from __future__ import annotations

import argparse
import importlib
from collections.abc import Sequence

COMMANDS = {
    "demo": "make the made-up railway's estate and run four weeks on it",
    "start": "make an estate out of a folder of exports, and judge it",
    "fit": "guess the column map of an export, for you to confirm",
    "read": "read the sources of the estate into a snapshot",
    "judge": "judge every account and show who falls short, and why",
    "view": "look at one topic in depth: factors, passwords, lockouts and the like",
    "show": "show how one account gets in, what falls short, and what to do",
    "changes": "show what changed between runs, and why",
    "trend": "show how findings went run by run, and how long mending takes",
    "findings": "list what is open, late, and whose; or tell one finding's life",
    "report": "turn a run into a page, a workbook, a ticket or an open format",
    "ahead": "show what will turn to breach, and when, if nothing changes",
    "rehearse": "try another rulebook or limit on the same evidence",
    "who": "pick accounts by any question in the rule language",
    "vet": "look through a batch of accounts before it is loaded",
    "mend": "turn findings into changes to make, tried on the evidence first",
    "exempt": "list, add, end, review, explain and import exemptions",
    "rules": "check, show, try, start and compare rulebooks",
    "logbook": "list, show and verify the runs there were",
    "dictionary": "print the dictionary of facts that rules can ask about",
    "completion": "let bash, zsh or fish complete commands, options, rules and accounts",
}

PAGED = COMMANDS.keys() - {"demo", "start", "completion"}
"""The commands that ask nothing and print when all is done."""


def parser_of(name: str) -> argparse.ArgumentParser:
    """The parser of one command."""
    parser = argparse.ArgumentParser(prog=f"keymallet {name}", allow_abbrev=False)
    return _declared(parser, name)


def parser_of_all(only: str | None = None) -> argparse.ArgumentParser:
    """The parser of the program: every command with its arguments; or with those of one alone."""
    whole = argparse.ArgumentParser(prog="keymallet", allow_abbrev=False)
    whole.add_argument("-V", "--version", action="store_true", help="which version this is")
    commands = whole.add_subparsers(metavar="COMMAND")
    for name, purpose in COMMANDS.items():
        parser = commands.add_parser(name, help=purpose, allow_abbrev=False)
        if only in (None, name):
            _declared(parser, name)
    return whole


def _declared(parser: argparse.ArgumentParser, name: str) -> argparse.ArgumentParser:
    declared = importlib.import_module(f"keymallet.commands.arguments.{name}")
    parser.description = declared.__doc__
    parser.epilog = _examples(declared.EXAMPLES)
    parser.formatter_class = argparse.RawDescriptionHelpFormatter
    declared.add_arguments(parser)
    for each in [*actions_of(parser).values()] or [parser] if name in PAGED else ():
        each.add_argument(
            "--no-pager", action="store_true", help="print at once what is longer than the screen"
        )
    return parser


def actions_of(parser: argparse.ArgumentParser) -> dict[str, argparse.ArgumentParser]:
    """The parsers of a command's actions by name, if it has any."""
    found = [action for action in parser._actions if isinstance(action, argparse._SubParsersAction)]
    return {name: below for action in found for name, below in action.choices.items()}


def _examples(examples: Sequence[tuple[str, str]]) -> str:
    lines = [f"  {command}\n      {purpose}" for command, purpose in examples]
    return "examples:\n" + "\n".join(lines)
