"""A table that fits the terminal it is printed on: texts wrap, bars give way, and no number is ever cut."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from rich.console import Console, ConsoleOptions, RenderResult
from rich.padding import Padding
from rich.table import Column, Table
from rich.text import Text

LEAST_TEXT = 14
"""So many characters a text that may wrap is left at least."""
GAP = 2
NOTHING = ("", "·", "-")
"""What a cell says that says nothing."""


class PlainTable(Table):
    """An aligned table without lines.

    Where its numbers and names do not fit side by side, the bars are left out; where that is not enough, each
    row becomes a block of lines: its first cell, and beneath it the others with their heads.
    """

    def __init__(self, *, header: bool = True) -> None:
        super().__init__(
            box=None, padding=(0, GAP, 0, 0), pad_edge=False, header_style="dim", show_header=header
        )
        self.bars: set[int] = set()
        self.named_by: int | None = None
        """The column that names a row, if it is not the first."""

    def add_column(self, header: Any = "", *arguments: Any, **options: Any) -> None:
        """Add a column whose words wrap, and are divided where one alone is too long: nothing is cut."""
        super().add_column(header, *arguments, **{"overflow": "fold", **options})

    def add_bar(self, head: str, width: int) -> None:
        """Add a column that only draws what others say in figures: it is the first to give way."""
        self.bars.add(len(self.columns))
        self.add_column(head, width=width, no_wrap=True)

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        """Print it as a table, as one without bars, or as blocks."""
        room = options.max_width
        figures = [column for number, column in enumerate(self.columns) if number not in self.bars]
        if self.row_count == 0 or _needed(self.columns) <= room:
            yield from super().__rich_console__(console, options)
        elif self.bars and _needed(figures) <= room:
            yield self._without_bars(figures)
        else:
            yield from self._blocks(figures)

    def _without_bars(self, figures: list[Column]) -> PlainTable:
        table = PlainTable(header=self.show_header)
        for column in figures:
            table.add_column(
                column.header,
                justify=column.justify,
                no_wrap=column.no_wrap,
                overflow=column.overflow,
                ratio=column.ratio,
                style=column.style,
            )
        for cells in zip(*(column.cells for column in figures), strict=True):
            table.add_row(*cells)
        return table

    def _blocks(self, figures: list[Column]) -> Iterator[Any]:
        heads = [" ".join(_as_text(column.header).plain.split()) for column in figures]
        for cells in zip(*(list(column.cells) for column in figures), strict=True):
            said = [(head, _as_text(cell)) for head, cell in zip(heads, cells, strict=True)]
            named = self.named_by
            if named is None:
                named = next((place for place, (_, cell) in enumerate(said) if cell.plain.strip()), 0)
            yield Text(overflow="fold").append_text(said.pop(named)[1])
            rest = Text(overflow="fold")
            for head, cell in said:
                if cell.plain.strip() not in NOTHING:
                    rest.append(" · " if rest else "", "dim").append(f"{head} " if head else "", "dim")
                    rest.append_text(cell)
            if rest:
                yield Padding(rest, (0, 0, 0, 4), expand=False)


def _needed(columns: list[Column]) -> int:
    """The least width at which nothing has to be cut."""
    return sum(map(_least, columns)) + GAP * (len(columns) - 1)


def _least(column: Column) -> int:
    if column.width:
        return column.width
    widest = max((len(line) for cell in _cells(column) for line in cell.plain.split("\n")), default=0)
    whole = column.no_wrap or column.justify == "right"
    return max(widest if whole else min(widest, LEAST_TEXT), column.min_width or 0)


def _cells(column: Column) -> Iterator[Text]:
    yield _as_text(column.header)
    yield from map(_as_text, column.cells)


def _as_text(cell: Any) -> Text:
    return cell.copy() if isinstance(cell, Text) else Text(str(cell))
