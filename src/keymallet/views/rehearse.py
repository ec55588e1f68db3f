"""What another book would change: rule by rule, by unit and kind, at later instants; and a limit's curve."""

from __future__ import annotations

from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

import polars as pl
from rich.console import Console
from rich.table import Table
from rich.text import Text

from keymallet.core.base.listing import and_more, how_many
from keymallet.core.judging.run import Run
from keymallet.core.studies.rehearse import NEWLY, NO_LONGER, Difference
from keymallet.views.figures import INK, SERIES, new_figure
from keymallet.views.plain_table import PlainTable
from keymallet.views.terminal import SEVERITY_STYLES, moment, text

BAR = 40
GROUPS_SHOWN = 8


def show_differences(out: Console, changed_rules: list[Difference]) -> None:
    """Print a line for each rule that comes out otherwise, and how many do not."""
    table = PlainTable()
    table.add_column("rule")
    table.add_column("severity")
    for name in ("breaches as it is", "as rehearsed", "newly", "no longer"):
        table.add_column(name, justify="right")
    changed = [
        difference
        for difference in changed_rules
        if difference.newly
        or difference.no_longer
        or difference.pending_before != difference.pending_after
        or None in (difference.before, difference.after)
    ]
    for difference in sorted(
        changed, key=lambda difference: (-difference.rule.severity, -difference.newly, -difference.no_longer)
    ):
        table.add_row(
            text(difference.rule.id),
            Text(difference.rule.severity.word, SEVERITY_STYLES[difference.rule.severity]),
            _with_pending(difference.before, difference.pending_before),
            _with_pending(difference.after, difference.pending_after),
            Text(f"+{difference.newly:,}" if difference.newly else "·", "red" if difference.newly else "dim"),
            Text(
                f"-{difference.no_longer:,}" if difference.no_longer else "·",
                "green" if difference.no_longer else "dim",
            ),
        )
    if changed:
        out.print(table)
    same = len(changed_rules) - len(changed)
    if same:
        verb = "comes" if same == 1 else "come"
        out.print(text(f"{how_many(same, 'rule')} {verb} out as before", "dim"))


def _with_pending(breaches: int | None, pending: int) -> str:
    """`6`, `32 + 11 pending`: what is under grace is no breach yet, and will be one."""
    if breaches is None:
        return "no rule"
    return f"{breaches:,} + {pending:,} pending" if pending else f"{breaches:,}"


def show_groups(out: Console, rows: pl.DataFrame) -> None:
    """Print how the changes fall on units and kinds of account."""
    for group in ("unit", "kind"):
        counted = (
            rows.with_columns(pl.col(group).fill_null("(not known)"))
            .group_by(group)
            .agg(
                newly=(pl.col("change") == NEWLY).sum(),
                no_longer=(pl.col("change") == NO_LONGER).sum(),
            )
            .sort("newly", "no_longer", group, descending=[True, True, False])
        )
        counts = [
            f"{name} {_signed(new, gone)}" for name, new, gone in counted.head(GROUPS_SHOWN).iter_rows()
        ]
        more = counted.height - GROUPS_SHOWN
        rest = f" {and_more(more)}".rstrip()
        out.print(text(f"by {group}: {', '.join(counts)}{rest}"))


def _signed(newly: int, no_longer: int) -> str:
    parts = (f"+{newly:,}" if newly else "", f"-{no_longer:,}" if no_longer else "")
    return " ".join(part for part in parts if part)


def show_first(out: Console, rows: pl.DataFrame, most: int) -> None:
    """Print the first accounts that are newly in breach."""
    newly = rows.filter(pl.col("change") == NEWLY)
    if not newly.height:
        return
    out.print()
    out.print(text("newly in breach", "dim"))
    table = Table.grid(padding=(0, 2, 0, 0))
    for _ in ("who", "title"):
        table.add_column(overflow="fold")
    for row in newly.head(most).iter_rows(named=True):
        about = f" [{row['subject']}]" if row["subject"] else ""
        table.add_row(text(f"  {row['account']}{about}"), text(row["title"], "dim"))
    out.print(table)
    if newly.height > most:
        out.print(text(f"  {and_more(newly.height - most)} (--format csv)", "dim"))


def show_instants(out: Console, numbers: list[tuple[datetime, int, int]], clock: ZoneInfo) -> None:
    """Print how many accounts are in breach under either book, at one instant after another."""
    table = PlainTable()
    table.add_column("judged at")
    for name in ("accounts in breach as it is", "as rehearsed", "more or fewer"):
        table.add_column(name, justify="right")
    for at, before, after in numbers:
        style = "red" if after > before else "green" if after < before else "dim"
        difference = f"{after - before:+,}" if after != before else "·"
        table.add_row(moment(at, clock), f"{before:,}", f"{after:,}", Text(difference, style))
    out.print(table)


def show_sweep(out: Console, limit: str, points: list[tuple[str, int, int]], present: str) -> None:
    """Print the curve of accounts in breach against a limit, and of breaches, also those of settings."""
    table = PlainTable()
    table.add_column(f"limit.{limit}", justify="right")
    table.add_column("accounts in breach", justify="right")
    table.add_column("breaches", justify="right")
    table.add_bar("", BAR)
    most = max([breaches for *_, breaches in points] + [1])
    for value, accounts, breaches in points:
        cells = max(1, round(BAR * breaches / most)) if breaches else 0
        table.add_row(text(value), f"{accounts:,}", f"{breaches:,}", Text("█" * cells, "cyan"))
    out.print(table)
    out.print(text(f"the book says {present}", "dim"))


def sweep_figure(limit: str, points: list[tuple[str, int, int]], places: list[float], present: float | None,
                 unit: str, run: Run) -> Any:  # fmt: skip
    """The curve: breaches against the limit, with the limit of today marked."""
    figure, axes = new_figure(
        f"Breaches against limit.{limit}",
        f"{run.organisation}, judged at {moment(run.at, run.clock)}; by the rules that use this limit",
    )
    numbers = [breaches for *_, breaches in points]
    axes.plot(places, numbers, "o-", color=SERIES[0], linewidth=2, markersize=6)
    axes.fill_between(places, numbers, color=SERIES[0], alpha=0.12)
    if present is not None and places[0] <= present <= places[-1]:
        axes.axvline(present, color=INK, linestyle=(0, (6, 3)), linewidth=1.4)
        top = (present, max([*numbers, 1]))
        axes.annotate("the book today", top, xytext=(6, -4), textcoords="offset points", color=INK)
    axes.set_ylim(0, max([*numbers, 1]) * 1.08)
    axes.set_ylabel("breaches", color=INK)
    axes.set_xlabel(f"limit.{limit}{f', {unit}' if unit else ''}", color=INK)
    return figure
