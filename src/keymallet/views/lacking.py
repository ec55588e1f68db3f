"""Which exports would tell most that nobody has told yet, and of which topics."""

from __future__ import annotations

from collections.abc import Collection

from rich.console import Console

from keymallet.views.plain_table import PlainTable
from keymallet.views.terminal import text

_WANTED = {
    "person": ("a staff list", "whose accounts are, who has left", "temporary"),
    "factor": ("second factors", "who can prove more than a password", "factors"),
    "grant": ("roles", "who holds power, since when, until when", "elevation"),
    "key": ("keys and tokens", "whose they are, how old, until when", "temporary"),
    "sign-in": ("sign-ins", "who was where; failures before a lock", "lockouts"),
    "setting": ("password settings", "what the systems themselves enforce", "passwords"),
    "gate": ("sign-in requirements", "whom they cover, whom they leave out", "exemptions"),
    "elevation": ("opened roles", "who asked, who approved, for how long", "elevation"),
}
"""Tables that most answers rest on, the most telling first: what to ask for, what it tells, which topic."""
_MOST_SHOWN = 4


def show_lacking(out: Console, there: Collection[str]) -> None:
    """What to ask for, where tables are not among those that are there; nothing, where all are."""
    lacking = [wanted for table, wanted in _WANTED.items() if table not in there]
    if not lacking:
        return
    out.print()
    out.print(text("what would tell most that no source reports", "bold"))
    table = PlainTable(header=False)
    for _ in range(3):
        table.add_column()
    for what, tells, topic in lacking[:_MOST_SHOWN]:
        table.add_row(text(f"  {what}"), text(tells), text(f"for: {topic}", "dim"))
    out.print(table)
    out.print()
