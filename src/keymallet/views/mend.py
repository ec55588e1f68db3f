"""What is proposed, for people: what it ends, what it would break, and what is left for them to do."""

from __future__ import annotations

import polars as pl
from rich.console import Console
from rich.padding import Padding
from rich.text import Text

from keymallet.core.base.listing import and_more, how_many
from keymallet.core.mending.changes import PROPOSAL, ROW
from keymallet.core.mending.proposals import needless
from keymallet.core.mending.trial import Trial, about, for_people
from keymallet.core.rulebook.model import MENDS, SEVERITIES
from keymallet.views.plain_table import PlainTable
from keymallet.views.terminal import SEVERITY_STYLES, plain_grid, text


def show_mending(
    out: Console, organisation: str, proposed: pl.DataFrame, written: pl.DataFrame, trial: Trial, most: int
) -> None:
    """Print how many changes mend how many findings, kind by kind, and each of them up to `most`."""
    known = written.filter(pl.col("fact") != "")
    findings = how_many(proposed.height, "finding")
    if known.height:
        changes = f"{how_many(known.height, 'change')} in {how_many(known['source'].n_unique(), 'system')}"
        out.print(text(f"{organisation}: {findings}, {changes}", "bold"))
    else:
        out.print(text(f"{organisation}: {findings}, and no change to make", "bold"))
    line = Text("  tried on the evidence: ")
    line.append(f"{how_many(trial.ended.height, 'finding')} ended", "green")
    broken = trial.broken.height
    line.append(" · ", "dim").append(f"{broken:,} newly broken", "red" if broken else "dim")
    aside = trial.aside.height
    line.append(" · ", "dim").append(f"{aside:,} set aside", "yellow" if aside else "dim")
    out.print(line)
    out.print()
    _show_changes(out, known, most)
    _show_broken(out, trial, most)
    _show_aside(out, proposed, trial, most)
    _show_needless(out, proposed, trial, most)
    _show_for_people(out, proposed, trial, most)


def _show_needless(out: Console, proposed: pl.DataFrame, trial: Trial, most: int) -> None:
    told = needless(proposed.join(trial.aside, on=PROPOSAL, how="anti"))
    if not told.height:
        return
    out.print(text("needless, if the account is switched off as proposed", "bold"))
    for row in told.head(most).iter_rows(named=True):
        out.print(text(f"  {row[PROPOSAL]}, by {row['other']}: {for_people(row)}"))
    _more(out, told.height - most, "change")
    out.print()


def _show_changes(out: Console, changes: pl.DataFrame, most: int) -> None:
    for (mend,), mine in changes.partition_by("mend", as_dict=True, maintain_order=True).items():
        out.print(text(f"{how_many(mine.height, 'change')}: {MENDS[str(mend)]}", "bold"))
        table = PlainTable()
        table.add_column("no.", justify="right")
        table.add_column("what to do", ratio=2)
        table.add_column("fact, now → then", ratio=1)
        table.add_column("how")
        told = mine.head(most).with_columns(change=pl.col("what to do"))
        for row in told.iter_rows(named=True):
            fact = f"{row['fact']}: {row['now']} → {row['then']}"
            table.add_row(str(row["proposal"]), text(for_people(row)), text(fact), text(row["how"]))
        out.print(table)
        _more(out, mine.height - most, "change")
        out.print()


def _show_broken(out: Console, trial: Trial, most: int) -> None:
    if not trial.broken.height:
        return
    out.print(text("would newly be in breach, or further off", "bold"))
    grid = plain_grid(10, None)
    for row in trial.broken.head(most).iter_rows(named=True):
        grid.add_row(
            text(row["severity"], SEVERITY_STYLES[SEVERITIES[row["severity"]]]),
            text(f"{row['rule']}: {about(row)}"),
        )
    out.print(grid)
    _more(out, trial.broken.height - most, "finding")
    out.print()


def _show_aside(out: Console, proposed: pl.DataFrame, trial: Trial, most: int) -> None:
    if not trial.aside.height:
        return
    out.print(
        text("set aside: it would break something as grave as what it mends (--even-if-it-breaks)", "bold")
    )
    told = proposed.join(trial.aside, on=PROPOSAL, how="inner").unique(PROPOSAL, maintain_order=True)
    for row in told.head(most).iter_rows(named=True):
        out.print(text(f"  {for_people(row)}: would break {row['why']}", "yellow"))
    _more(out, told.height - most, "change")
    out.print()


def _show_for_people(out: Console, proposed: pl.DataFrame, trial: Trial, most: int) -> None:
    told = proposed.filter(pl.col(ROW).is_null()).unique(PROPOSAL, maintain_order=True)
    if not told.height:
        return
    out.print(text(f"{how_many(told.height, 'thing')} for people to see to", "bold"))
    for row in told.head(most).iter_rows(named=True):
        out.print(Padding(text(for_people(row)), (0, 0, 0, 2), expand=False))
    _more(out, told.height - most, "thing")
    out.print()


def _more(out: Console, number: int, noun: str) -> None:
    if number > 0:
        out.print(text(f"  {and_more(number, noun)}", "dim"))
