"""What judging a sealed run again has shown."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from zoneinfo import ZoneInfo

import polars as pl
from rich.console import Console

from keymallet.core.base.listing import and_more, how_many, some_names
from keymallet.store.logbook.records import RunRecord
from keymallet.views.terminal import moment, text

_MOST = 12


@dataclass(frozen=True)
class Rejudged:
    """A sealed run and its verdicts beside those judged now; `rules` are those with other numbers."""

    record: RunRecord
    head: str
    findings: int
    differing: pl.DataFrame
    rules: Sequence[str]
    pseudonyms_of: str = ""


def show_rejudged(out: Console, told: Rejudged) -> None:
    """Print what was judged, and whether every verdict is the same."""
    record = told.record
    clock = ZoneInfo(record.clock)
    when = f"judged at {moment(record.judged_at, clock)} ({clock.key}) by {record.by} on {record.host}"
    out.print(text(f"run {record.number} of {record.organisation}", "bold"))
    out.print(text(f"{when}, keymallet {record.keymallet}", "dim"))
    out.print(text(f"head {told.head}", "dim"), soft_wrap=True)
    if told.pseudonyms_of:
        out.print(
            text(f"with tokens in place of names; made from the run with head {told.pseudonyms_of}", "dim")
        )
    out.print()
    if not told.differing.height and not told.rules:
        numbers = f"{how_many(told.findings, 'finding')}, {how_many(len(record.rules), 'rule')}"
        out.print(text(f"judged again, every verdict is the same: {numbers}", "green"))
        return
    out.print(
        text(f"judged again, {how_many(told.differing.height, 'verdict')} came out otherwise", "bold red")
    )
    for row in told.differing.head(_MOST).iter_rows(named=True):
        who = row["account"] or row["account-again"] or ""
        rule = row["rule"] or row["rule-again"]
        said = f"  {who} {rule}: {row['verdict'] or 'no finding'}, now {row['verdict-again'] or 'no finding'}"
        out.print(text(said))
    if told.differing.height > _MOST:
        out.print(text(f"  {and_more(told.differing.height - _MOST)}", "dim"))
    if told.rules:
        out.print(text(f"rules with other numbers: {some_names(told.rules, 5)}"))
