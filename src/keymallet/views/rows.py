"""Rows as a table on the terminal: aligned, dates as people read them, at most so many."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from zoneinfo import ZoneInfo

import polars as pl
from rich.console import Console
from rich.padding import Padding

from keymallet.core.base.listing import some_names
from keymallet.core.facts import wording
from keymallet.core.facts.model import Kind
from keymallet.views.plain_table import PlainTable
from keymallet.views.terminal import text

_WHOLE = ("account", "who")
_RIGHT = (Kind.COUNT, Kind.SPAN)


def show_rows(
    out: Console,
    frame: pl.DataFrame,
    kinds: Mapping[str, Kind],
    clock: ZoneInfo,
    margin: int = 0,
    *,
    short: Mapping[str, int] | None = None,
    to_the_minute: Collection[str] = (),
) -> None:
    """Print every row, so far from the left. `kinds` says what the columns hold, if it is not text.

    Of lists in the columns `short` only the first members are named, so many of each; instants
    `to_the_minute` are shown with their time of day.
    """
    short = short or {}
    table = PlainTable()
    written = []
    for name in frame.columns:
        kind = kinds.get(name, Kind.TEXT)
        # A name that is divided cannot be copied: other columns give way first.
        table.add_column(
            name,
            justify="right" if kind in _RIGHT else "left",
            overflow="fold",
            no_wrap=name in _WHOLE or kind is Kind.INSTANT,
        )
        if name in short:
            values = pl.Series([some_names(names, short[name]) for names in frame[name]], dtype=pl.String)
        elif name in to_the_minute:
            values = frame[name].dt.convert_time_zone(clock.key).dt.strftime("%Y-%m-%d %H:%M")
        else:
            values = wording.values(frame[name], kind, clock).cast(pl.String)
        written.append(values.fill_null("-"))
    named_by = next((place for place, name in enumerate(frame.columns) if name in _WHOLE), None)
    table.named_by = named_by
    for row in zip(*written, strict=True):
        table.add_row(*(text(value) for value in row))
    out.print(Padding(table, (0, 0, 0, margin), expand=False) if margin else table)
