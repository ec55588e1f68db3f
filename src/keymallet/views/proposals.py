"""What became of proposals, on the terminal: what stands first."""

from __future__ import annotations

import polars as pl
from rich.console import Console
from rich.text import Text

from keymallet.core.base.listing import and_more, how_many
from keymallet.core.mending.outcome import RESULT, RESULTS
from keymallet.views.plain_table import PlainTable
from keymallet.views.terminal import show_hints, text

_STYLES = dict(zip(RESULTS, ("red", "yellow", "yellow"), strict=True))


def show_outcomes(out: Console, organisation: str, run: int, told: pl.DataFrame, most: int | None) -> None:
    """Print how many proposals came to what by this run, and what stands, up to `most`."""
    out.print(text(f"{organisation}: {how_many(told.height, 'proposal')}, as of run {run}", "bold"))
    line = Text("  ")
    for place, (result, number) in enumerate(told[RESULT].value_counts(sort=True).iter_rows()):
        line.append(" · " if place else "", "dim")
        line.append(f"{number:,} {result}", _STYLES.get(result, "green"))
    out.print(line)
    out.print()
    table = PlainTable()
    table.add_column("no.", justify="right")
    table.add_column("result")
    table.add_column("what was to be done", ratio=1)
    table.add_column("account", ratio=1)
    shown = told if most is None else told.head(most)
    for row in shown.iter_rows(named=True):
        result = text(row[RESULT], _STYLES.get(row[RESULT], "green"))
        table.add_row(str(row["proposal"]), result, text(row["what to do"] or ""), text(row["account"] or ""))
    out.print(table)
    if told.height > shown.height:
        out.print(text(f"  {and_more(told.height - shown.height, 'proposal')}", "dim"))
    out.print()
    show_hints(out, [("keymallet findings ID", "the life of a finding; the worksheet has the ids")])
