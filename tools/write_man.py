"""Writes the manual pages in man/: one of the program, one of each command; made of what --help says.

With --check nothing is written; what is out of date is named, and the exit code is 1.
"""

from __future__ import annotations

import re
import sys
from collections.abc import Iterable
from datetime import UTC, datetime
from pathlib import Path

from argparse_manpage.manpage import Manpage

from keymallet import __version__
from keymallet.commands.parsers import COMMANDS, actions_of, parser_of, parser_of_all

MAN = Path(__file__).parent.parent / "man"
_DAY = re.compile(r'(?<=^\.TH ).*"\d{4}-\d\d-\d\d"', re.MULTILINE)

CODES = """.TP
.B 0
done; of judging: nothing is in breach at or above the severity of \\-\\-fail\\-on
.TP
.B 1
something is
.TP
.B 2
the request could not be carried out
.TP
.B 3
nothing is, but the evidence does not suffice: a source failed, is too old or lost rows
"""
ENVIRONMENT = """.TP
.B PAGER
what shows a text that is longer than the screen (default: less); empty for none
.TP
.B NO_COLOR
if set, nothing is coloured
.TP
.B COLUMNS
how wide what is piped may be (default: 100)
"""
FILES = """.TP
.I estate.toml
the organisation, its clock, its sources, its rulebook, its register of exemptions
"""


def pages() -> dict[str, str]:
    """Every page by the name of its file."""
    found = {"keymallet.1": _program()}
    for name in COMMANDS:
        found[f"keymallet-{name}.1"] = _command(name)
    return found


def _program() -> str:
    parser = parser_of_all(only="")
    parser.description = (
        "Judges every account of an organisation against its own authentication and credential policies, "
        "and reports the accounts that fall short: which, why, and on what evidence."
    )
    page = Manpage(parser)
    page.add_section("exit status", "=", CODES)
    page.add_section("environment", "=", ENVIRONMENT)
    page.add_section("files", "=", FILES)
    page.add_section("see also", "=", _see(COMMANDS))
    text = _as_text(page, "keymallet", "judge accounts by an organisation's own policies", "COMMANDS")
    # Each has a page of its own.
    return re.sub(r"\n\.SH COMMAND .*\n(?:(?!\.SH).*\n)*", "\n", text)


def _command(name: str) -> str:
    parser = parser_of(name)
    examples = (parser.epilog or "").removeprefix("examples:\n")
    parser.epilog = None
    actions = actions_of(parser)
    for action in actions.values():
        # In a manual page lines are not kept.
        action.usage = " ".join(action.format_usage().removeprefix("usage: ").split())
    page = Manpage(parser)
    if examples:
        page.add_section("examples", "=", _examples(examples))
    page.add_section("exit status", "=", CODES)
    page.add_section("see also", "=", _see(other for other in ["", *COMMANDS] if other != name))
    return _as_text(page, f"keymallet-{name}", COMMANDS[name], "ACTIONS" if actions else "ARGUMENTS")


def _as_text(page: Manpage, name: str, purpose: str, arguments: str) -> str:
    page.prog, page.description, page.manual = name, purpose, "Keymallet"
    page.source, page.date = f"keymallet {__version__}", datetime.now(UTC).date().isoformat()
    text = str(page).replace(page.date.replace("-", r"\-"), page.date, 1)
    return re.sub(r"^\.SH\nPOSITIONAL ARGUMENTS$", f".SH {arguments}", text, flags=re.MULTILINE)


def _examples(text: str) -> str:
    """Commands as they are typed, each with its purpose."""
    lines = []
    for line in text.splitlines():
        plain = line.strip().replace("\\", "\\e").replace("-", "\\-")
        if line.startswith("      "):
            lines += [".RS", plain, ".RE"]
        else:
            lines += [*([".PP"] if lines else []), ".nf", f".B {_quoted(plain)}", ".fi"]
    return "\n".join(lines) + "\n"


def _quoted(words: str) -> str:
    return '"' + words.replace('"', '""') + '"'


def _see(names: Iterable[str]) -> str:
    return ",\n".join(f".BR keymallet{'-' if name else ''}{name} (1)" for name in sorted(names)) + "\n"


def _but_for_the_day(page: str) -> str:
    return _DAY.sub("", page, count=1)


def main() -> int:
    """Write what changed; a page keeps its day as long as nothing else in it changes."""
    check = "--check" in sys.argv[1:]
    wanted = pages()
    stale = []
    for name, page in wanted.items():
        file = MAN / name
        before = file.read_text("utf-8") if file.exists() else ""
        if _but_for_the_day(before) != _but_for_the_day(page):
            stale.append(name)
            if not check:
                MAN.mkdir(exist_ok=True)
                file.write_text(page, "utf-8")
    for file in set(MAN.glob("*")) - {MAN / name for name in wanted}:
        stale.append(file.name)
        if not check:
            file.unlink()
    if check and stale:
        print(f"out of date, make man writes them: {', '.join(sorted(stale))}")
    return int(check and bool(stale))


if __name__ == "__main__":
    sys.exit(main())
