"""Whether somebody gets in, as a colleague would answer: each way on a line, and what bars it."""

from __future__ import annotations

from collections.abc import Sequence
from zoneinfo import ZoneInfo

from rich.console import Console
from rich.table import Table as Grid
from rich.text import Text

from keymallet.core.base.listing import how_many
from keymallet.core.explaining.unlocking import Unlocker
from keymallet.core.explaining.ways_in import WayIn
from keymallet.views.terminal import moment, text

_WORDS = {True: ("open", "green"), None: ("unknown", "yellow"), False: ("barred", "dim")}


def show_ways(out: Console, ways: list[WayIn], clock: ZoneInfo) -> None:
    """Print the answer in one line, then each way in."""
    out.print(text(_answer(ways), "bold"))
    grid = Grid.grid(padding=(0, 2, 0, 0))
    grid.add_column(width=10)
    grid.add_column(ratio=1, overflow="fold")
    for way in ways:
        word, style = _WORDS[way.is_open]
        said = text(way.what, "dim" if way.is_open is False else "")
        said.append_text(text(_why(way, clock), "dim"))
        for note in way.notes:
            said.append("\n").append_text(text(note, "dim"))
        grid.add_row(Text(f"  {word}", style), said)
    if ways:
        out.print(grid)


def show_unlockers(out: Console, unlockers: Sequence[Unlocker]) -> None:
    """Print who may unlock a locked account, and what to say before that."""
    grid = Grid.grid(padding=(0, 2, 0, 0))
    grid.add_column(width=10)
    grid.add_column(ratio=1, overflow="fold")
    for each in unlockers:
        said = text(f"may be unlocked by {each.by}")
        said.append_text(text(f", if: {each.if_} (which is not known)" if each.if_ else "", "yellow"))
        if each.say:
            said.append("\n").append_text(text(each.say, "dim"))
        grid.add_row(Text("  perhaps" if each.if_ else "  unlock", "cyan"), said)
    if not any(not each.if_ for each in unlockers):
        said = text("who may unlock it is not written down: [[unlocks]] in the estate file", "dim")
        grid.add_row(Text("  unlock", "cyan"), said)
    out.print(grid)


def _answer(ways: list[WayIn]) -> str:
    opened = sum(way.is_open is True for way in ways)
    unknown = sum(way.is_open is None for way in ways)
    barred = len(ways) - opened - unknown
    counted = [f"{number} {word}" for number, word in ((barred, "barred"), (unknown, "not known")) if number]
    rest = f", {', '.join(counted)}" if counted else ""
    if opened:
        return f"gets in: {how_many(opened, 'way')} open{rest}"
    if unknown:
        return f"not known whether it gets in: {', '.join(counted)}"
    return f"does not get in: {how_many(barred, 'way')} barred" if barred else "does not get in: no way in"


def _why(way: WayIn, clock: ZoneInfo) -> str:
    if way.barred:
        return f": {'; '.join(way.barred)}"
    if way.missing:
        return f": not known: {', '.join(way.missing)}"
    return f", until {moment(way.until, clock)}: {way.by}" if way.until else ""
