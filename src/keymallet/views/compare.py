"""What changed between two rulebooks, on the terminal."""

from __future__ import annotations

from collections import Counter

from rich.console import Console
from rich.text import Text

from keymallet.core.studies.compare import (
    ADDED,
    DROPPED,
    LOOSENED,
    NARROWED,
    OTHERWISE,
    SAME,
    TIGHTENED,
    WIDENED,
    Change,
)
from keymallet.views.plain_table import PlainTable
from keymallet.views.terminal import text

_STYLES = {
    ADDED: "red",
    TIGHTENED: "red",
    WIDENED: "red",
    DROPPED: "green",
    LOOSENED: "green",
    NARROWED: "green",
    OTHERWISE: "yellow",
    SAME: "dim",
}


def show_changes(out: Console, names: tuple[str, str], changes: list[Change], *, on_evidence: bool) -> None:
    """Print a line for each change, those that ask for more first, then what they come to."""
    out.print(text(f"from {names[0]} to {names[1]}", "bold"))
    table = PlainTable(header=False)
    table.add_column(width=10)
    table.add_column(overflow="fold", max_width=30)
    table.add_column(ratio=1)
    order = list(_STYLES)
    for change in sorted(changes, key=lambda change: order.index(change.how)):
        table.add_row(Text(change.how, _STYLES[change.how]), text(change.about), text(change.words))
    if changes:
        out.print(table)
    counted = Counter(change.how for change in changes)
    counts = ", ".join(f"{counted[how]} {how}" for how in _STYLES if counted[how])
    out.print(text(counts or "nothing changes", "bold"))
    if not on_evidence and changes:
        out.print(text("compared by their text: there is no snapshot to compare them on (--snapshot)", "dim"))
