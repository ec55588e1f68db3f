"""Which exports would tell most that nobody has told yet, and of which topics."""

from __future__ import annotations

from collections.abc import Collection, Mapping

from rich.console import Console

from keymallet.core.base.listing import how_many
from keymallet.core.explaining.untold import Resting
from keymallet.views.plain_table import PlainTable
from keymallet.views.terminal import text

_WANTED = {
    "person": ("a staff list", "whose accounts are, who has left"),
    "factor": ("second factors", "who can prove more than a password"),
    "grant": ("roles", "who holds power, since when, until when"),
    "key": ("keys and tokens", "whose they are, how old, until when"),
    "sign-in": ("sign-ins", "who was where; failures before a lock"),
    "setting": ("password settings", "what the systems themselves enforce"),
    "gate": ("sign-in requirements", "whom they cover, whom they leave out"),
    "elevation": ("opened roles", "who asked, who approved, for how long"),
}
"""Tables that most answers rest on: what to ask for, what it tells."""
_MOST_SHOWN, _TOPICS = 4, 2


def show_lacking(out: Console, there: Collection[str], rules: Mapping[str, Resting]) -> None:
    """What to ask for, where tables are not among those that are there; nothing, where all are.

    What most `rules` of the book rest on, by table, comes first.
    """
    lacking = [(rules.get(table), wanted) for table, wanted in _WANTED.items() if table not in there]
    lacking.sort(key=lambda each: -each[0].weight if each[0] else 0)
    if not lacking:
        return
    out.print()
    out.print(text("what would tell most that no source reports", "bold"))
    table = PlainTable(header=False)
    for _ in range(3):
        table.add_column()
    for resting, (what, tells) in lacking[:_MOST_SHOWN]:
        told = ""
        if resting:
            topics = ", ".join(topic for topic, _ in resting.topics.most_common(_TOPICS) if topic)
            told = f"{how_many(resting.rules, 'rule')}{f', for: {topics}' if topics else ''}"
        table.add_row(text(f"  {what}"), text(tells), text(told, "dim"))
    out.print(table)
    out.print()
