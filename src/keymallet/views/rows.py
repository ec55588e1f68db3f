"""Rows as a table on the terminal: aligned, dates as people read them, at most so many."""

from __future__ import annotations

from zoneinfo import ZoneInfo

import polars as pl
from rich.console import Console
from rich.padding import Padding

from keymallet.core.facts import wording
from keymallet.core.facts.model import Kind
from keymallet.views.terminal import plain_table, text

_WHOLE = ("account", "who")
_RIGHT = (Kind.COUNT, Kind.SPAN)


def show_rows(
    out: Console, frame: pl.DataFrame, kinds: dict[str, Kind], clock: ZoneInfo, margin: int = 0
) -> None:
    """Print every row, so far from the left. `kinds` says what the columns hold, if it is not text."""
    table = plain_table()
    written = []
    for name in frame.columns:
        kind = kinds.get(name, Kind.TEXT)
        # A name that is divided cannot be copied: other columns give way first.
        table.add_column(
            name, justify="right" if kind in _RIGHT else "left", overflow="fold", no_wrap=name in _WHOLE
        )
        written.append(wording.values(frame[name], kind, clock).cast(pl.String).fill_null("-"))
    for row in zip(*written, strict=True):
        table.add_row(*(text(value) for value in row))
    out.print(Padding(table, (0, 0, 0, margin), expand=False) if margin else table)
