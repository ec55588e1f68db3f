"""The terminal's manners: width, colours with a meaning, dates as people read them."""

from __future__ import annotations

import os
import sys
from datetime import datetime, timedelta
from typing import Any, TextIO
from zoneinfo import ZoneInfo

import polars as pl
from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from keymallet.core.base.printable import plain
from keymallet.core.facts import wording
from keymallet.core.rulebook.model import Severity

NARROWEST, WIDEST = 40, 100
SEVERITY_STYLES = {
    Severity.CRITICAL: "bold red",
    Severity.HIGH: "red",
    Severity.MEDIUM: "yellow",
    Severity.LOW: "cyan",
}
VERDICT_STYLES = {
    "breach": "red",
    "pending": "magenta",
    "exempt": "blue",
    "unproven": "yellow",
    "met": "green",
}


def console(stream: TextIO | None = None) -> Console:
    """A console of at most 100 columns; coloured only on a terminal, and not with NO_COLOR.

    What is piped has 100, or as many as COLUMNS says.
    """
    stream = stream or sys.stdout
    terminal = Console(file=stream, highlight=False, emoji=False, markup=False)
    told = stream.isatty() or os.environ.get("COLUMNS", "").isdigit()
    width = max(min(terminal.width, WIDEST), NARROWEST) if told else WIDEST
    return Console(file=stream, highlight=False, emoji=False, markup=False, width=width)


def text(value: object, style: str = "") -> Text:
    """Text from outside, safe to print."""
    return Text(plain(value), style=style)


def plain_grid(*widths: int | None) -> Table:
    """An aligned grid without lines or header: columns of these widths, None for what is left."""
    grid = Table.grid(padding=(0, 2, 0, 0))
    for width in widths:
        grid.add_column(width=width, ratio=None if width else 1, overflow="fold")
    return grid


def show_hints(out: Console, hints: list[tuple[str, str]]) -> None:
    """Print the next useful commands, with what each is for; a command stays whole, to be copied."""
    width = max((len(command) for command, _ in hints), default=0)
    beside = all(width + 3 + len(purpose) <= out.width for _, purpose in hints)
    for command, purpose in hints:
        line = text(f"{command:{width}}" if beside else command, "cyan")
        if beside:
            line.append("   ").append_text(text(purpose, "dim"))
        out.print(line, soft_wrap=True)
        if not beside:
            out.print(Padding(text(purpose, "dim"), (0, 0, 0, 4), expand=False))


def moment(instant: datetime, clock: ZoneInfo) -> str:
    """An instant in the estate's clock: `2026-11-24 10:00`."""
    return f"{instant.astimezone(clock):%Y-%m-%d %H:%M}"


def day(instant: datetime, clock: ZoneInfo) -> str:
    """A day of the estate's clock: `2026-11-24`."""
    return f"{instant.astimezone(clock):%Y-%m-%d}"


def stretch(length: timedelta) -> str:
    """A length of time as people say it: `87 d`, `31 h`, `12 min`."""
    return str(wording.spans(pl.Series([length], dtype=pl.Duration("us")))[0])


def lasting(row: dict[str, Any], at: datetime, clock: ZoneInfo) -> str:
    """How long a finding has held, and when time alone ends it; with what the logbook knows of it, when it is
    due and whose it is. Empty where nothing of it can be told."""
    since, until = row["since"], row["until"]
    notes = []
    if row.get("state") in ("new", "back"):
        notes.append(str(row["state"]))
    if since and row["verdict"] == "breach":
        notes.append(f"since {day(since, clock)} ({stretch(at - since)})")
    if until:
        word = _ENDS.get(row["verdict"])
        notes += [f"{word} {day(until, clock)} (in {stretch(until - at)})"] if word else []
    if row["verdict"] == "breach" and row.get("due"):
        late = row["late-by"]
        notes.append(f"{stretch(late)} past due" if late else f"due {day(row['due'], clock)}")
    if row["verdict"] == "breach" and row.get("answerer"):
        notes.append(row["answerer"])
    return ", ".join(notes)


_ENDS = {
    "breach": "ends by itself",
    "pending": "counts as a breach from",
    "exempt": "exempt until",
    "met": "until",
}
