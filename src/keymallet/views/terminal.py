"""The terminal's manners: width, colours with a meaning, dates as people read them."""

from __future__ import annotations

import sys
from datetime import datetime
from typing import TextIO
from zoneinfo import ZoneInfo

from rich.console import Console
from rich.text import Text

from keymallet.core.rulebook import Severity
from keymallet.views.safe import plain

WIDEST = 100
SEVERITY_STYLES = {
    Severity.CRITICAL: "bold red",
    Severity.HIGH: "red",
    Severity.MEDIUM: "yellow",
    Severity.LOW: "cyan",
}
VERDICT_STYLES = {"breach": "red", "unproven": "yellow", "met": "green"}


def console(stream: TextIO | None = None) -> Console:
    """A console of at most 100 columns; coloured only on a terminal, and not with NO_COLOR."""
    stream = stream or sys.stdout
    found = Console(file=stream, highlight=False, emoji=False, markup=False)
    width = min(found.width, WIDEST) if stream.isatty() else WIDEST
    return Console(file=stream, highlight=False, emoji=False, markup=False, width=width)


def text(value: object, style: str = "") -> Text:
    """Text from outside, safe to print."""
    return Text(plain(value), style=style)


def moment(instant: datetime, clock: ZoneInfo) -> str:
    """An instant in the estate's clock: `2026-11-24 10:00`."""
    return f"{instant.astimezone(clock):%Y-%m-%d %H:%M}"


def count(number: int, noun: str, plural: str = "") -> str:
    """`1 account`, `1,412 accounts`."""
    return f"{number:,} {noun if number == 1 else plural or noun + 's'}"
