"""The terminal's manners: width, colours with a meaning, dates as people read them."""

from __future__ import annotations

import sys
from datetime import datetime, timedelta
from typing import Any, TextIO
from zoneinfo import ZoneInfo

import polars as pl
from rich.console import Console
from rich.table import Table
from rich.text import Text

from keymallet.core.facts import wording
from keymallet.core.rulebook.model import Severity
from keymallet.views.safe import plain

WIDEST = 100
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
    """A console of at most 100 columns; coloured only on a terminal, and not with NO_COLOR."""
    stream = stream or sys.stdout
    terminal = Console(file=stream, highlight=False, emoji=False, markup=False)
    width = min(terminal.width, WIDEST) if stream.isatty() else WIDEST
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


def plain_table(*, header: bool = True) -> Table:
    """An aligned table without lines; its columns are added by the caller."""
    return Table(box=None, padding=(0, 2, 0, 0), pad_edge=False, header_style="dim", show_header=header)


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
    """How long a finding has held, and when time alone ends it; empty where neither can be told."""
    since, until = row["since"], row["until"]
    notes = []
    if since and row["verdict"] == "breach":
        notes.append(f"since {day(since, clock)} ({stretch(at - since)})")
    if until:
        word = _ENDS.get(row["verdict"])
        notes += [f"{word} {day(until, clock)} (in {stretch(until - at)})"] if word else []
    return ", ".join(notes)


_ENDS = {
    "breach": "ends by itself",
    "pending": "counts as a breach from",
    "exempt": "exempt until",
    "met": "until",
}
