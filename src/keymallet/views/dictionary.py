"""The dictionary of facts, and of the functions of the rule language."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console
from rich.table import Table as Grid
from rich.text import Text

from keymallet.core.facts.model import Column, Table
from keymallet.core.language.functions import FUNCTIONS


def show_dictionary(out: Console, tables: Sequence[Table]) -> None:
    """Print each table with its columns, their types, meanings and words."""
    for table in tables:
        title = Text(table.name, "bold")
        title.append(f"  {table.meaning}", "dim")
        out.print(title)
        grid = _grid()
        for column in table.columns:
            grid.add_row(f"  {column.name}", Text(column.kind.value, "cyan"), _meaning(column))
        out.print(grid)
        out.print()
    if len(tables) > 1:
        out.print(Text("functions", "bold"))
        grid = _grid()
        for function in FUNCTIONS.values():
            takes = "a, b, …" if function.many else " or ".join(kind.value for kind in function.takes)
            gives = "the same" if function.many else function.gives.kind.value
            meaning = Text(function.meaning).append(
                " (in definitions only)" if function.internal else "", "dim"
            )
            grid.add_row(f"  {function.name}({takes})", Text(gives, "cyan"), meaning)
        out.print(grid)


def _grid() -> Grid:
    grid = Grid.grid(padding=(0, 2, 0, 0))
    grid.add_column(width=26, overflow="fold")
    grid.add_column(width=8)
    grid.add_column(ratio=1, overflow="fold")
    return grid


def _meaning(column: Column) -> Text:
    text = Text(column.meaning)
    if column.words:
        text.append("\n" + " · ".join(column.words), "dim")
    if column.definition:
        text.append(f"\n{column.derivation.value}: {' '.join(column.definition.split())}", "dim")
    return text
