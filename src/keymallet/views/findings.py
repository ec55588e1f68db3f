"""Findings that are open, and the life of one, on the terminal."""

from __future__ import annotations

from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

import polars as pl
from rich.console import Console
from rich.padding import Padding
from rich.text import Text

from keymallet.core.base.listing import and_more, how_many
from keymallet.core.history.columns import FINDING
from keymallet.core.history.states import State
from keymallet.core.rulebook.model import SEVERITIES
from keymallet.store.logbook.records import RunLine
from keymallet.views.changes import changed_in_words
from keymallet.views.history import STATE_STYLES
from keymallet.views.plain_table import PlainTable
from keymallet.views.terminal import SEVERITY_STYLES, day, moment, plain_grid, stretch, text

SHORT_ID = 8


def show_open(out: Console, run: RunLine, found: pl.DataFrame, most: int | None, clock: ZoneInfo) -> None:
    """Print a line for each finding, in the order given: late by how much or due when, what, whose."""
    out.print(_sum(run, found, clock))
    out.print()
    table = PlainTable()
    table.add_column("id", no_wrap=True)
    table.add_column("severity", no_wrap=True)
    table.add_column("state", no_wrap=True)
    table.add_column("due", no_wrap=True)
    table.add_column("finding", ratio=1, overflow="fold")
    table.add_column("answerer", overflow="fold")
    table.named_by = 4
    for row in found.head(found.height if most is None else most).iter_rows(named=True):
        severity = SEVERITIES[row["severity"]]
        who = f"{row['account'] or ''}{' [' + row['subject'] + ']' if row['subject'] else ''}"
        table.add_row(
            text(row[FINDING][:SHORT_ID]),
            Text(row["severity"], SEVERITY_STYLES[severity]),
            Text(row["state"], STATE_STYLES.get(row["state"], "")),
            _due(row, clock),
            text(f"{who}: ".lstrip(": ")).append_text(text(row["rule"], "dim")),
            text(row["answerer"] or ""),
        )
    out.print(table)
    left = found.height - (found.height if most is None else most)
    if left > 0:
        out.print(text(f"{and_more(left)} (--rows 0)", "dim"))


def _sum(run: RunLine, found: pl.DataFrame, clock: ZoneInfo) -> Text:
    late = int(found["late-by"].count())
    said = text(
        f"{how_many(found.height, 'finding')} open, by run {run.number} of {moment(run.judged_at, clock)}"
    )
    said.append(", ").append(f"{late:,} past due", STATE_STYLES[State.LATE] if late else "")
    hidden = int((found["state"] == State.NOT_SEEN).sum())
    return said.append(f", {hidden:,} not seen", STATE_STYLES[State.NOT_SEEN]) if hidden else said


def _due(row: dict[str, Any], clock: ZoneInfo) -> Text:
    if row["late-by"] is not None:
        return Text(f"{stretch(row['late-by'])} late", STATE_STYLES[State.LATE])
    return text(day(row["due"], clock) if row["due"] else "-", "" if row["due"] else "dim")


def show_numbers_by(out: Console, run: RunLine, found: pl.DataFrame, by: str, clock: ZoneInfo) -> None:
    """Print how many findings each has, and how many of them are late."""
    out.print(_sum(run, found, clock))
    out.print()
    table = PlainTable()
    table.add_column(by, ratio=1, overflow="fold")
    for name in ("open", "past due", *SEVERITIES):
        table.add_column(name, justify="right", no_wrap=True)
    table.add_column("next due", no_wrap=True)
    grouped = found.group_by(pl.col(by).fill_null("-").alias("group")).agg(
        pl.len(),
        pl.col("late-by").count().alias("late"),
        *((pl.col("severity") == word).sum().alias(word) for word in SEVERITIES),
        pl.col("due").filter(pl.col("late-by").is_null()).min().alias("next"),
    )
    for row in grouped.sort(["late", "len", "group"], descending=[True, True, False]).iter_rows(named=True):
        numbers = (row[word] for word in SEVERITIES)
        table.add_row(
            text(row["group"]),
            f"{row['len']:,}",
            Text(f"{row['late']:,}", STATE_STYLES[State.LATE]) if row["late"] else "·",
            *(f"{number:,}" if number else "·" for number in numbers),
            day(row["next"], clock) if row["next"] else "-",
        )
    out.print(table)


def show_life(
    out: Console,
    finding: dict[str, Any],
    life: pl.DataFrame,
    instants: dict[int, datetime],
    clock: ZoneInfo,
) -> None:
    """Print one finding: what it is, how it stands, and each change of its state with its cause."""
    subject = f" [{finding['subject']}]" if finding.get("subject") else ""
    who = f"{finding['account'] or 'everybody'}{subject}"
    out.print(text(who, "bold").append_text(text(f"  {finding.get('title') or finding['rule']}")))
    severity = SEVERITIES[finding["severity"]]
    graded = Text(finding["severity"], SEVERITY_STYLES[severity])
    out.print(graded.append_text(text(f"  rule {finding['rule']}, finding {finding[FINDING]}", "dim")))
    out.print()
    table = plain_grid(12, None)
    state = finding["state"]
    table.add_row(text("state", "dim"), Text(state, STATE_STYLES.get(state, "")).append_text(
        text(f"  {State(state).meaning}", "dim")))  # fmt: skip
    if finding.get("because"):
        said = text(finding["because"])
        table.add_row(
            text("because", "dim"),
            said.append_text(text(f"  (as of {moment(finding['told-at'], clock)})", "dim")),
        )
    if finding.get("since"):
        table.add_row(text("since", "dim"), text(moment(finding["since"], clock)))
    if finding.get("due"):
        late = finding.get("late-by")
        due = text(moment(finding["due"], clock))
        table.add_row(
            text("due", "dim"),
            due.append(f"  {stretch(late)} late", STATE_STYLES[State.LATE]) if late else due,
        )
    if finding.get("change"):
        table.add_row(text("to do", "dim"), text(finding["change"]))
    if finding.get("answerer"):
        table.add_row(text("answerer", "dim"), text(finding["answerer"]))
    if finding.get("times-back"):
        table.add_row(text("came back", "dim"), text(how_many(finding["times-back"], "time")))
    out.print(table)
    out.print()
    out.print(text("its life", "dim"))
    first = finding.get("first-seen")
    if first is not None and not (life.height and life["was"][0] == ""):
        out.print(text(f"  {moment(first, clock)}  new: the logbook begins with that run"))
    for row in life.iter_rows(named=True):
        when = instants.get(row["run"])
        line = text(f"  {moment(when, clock) if when else '?'}  ")
        line.append(row["state"], STATE_STYLES.get(row["state"], "")).append(
            f" ({row['cause']}), run {row['run']}"
        )
        out.print(line)
        if row["changed"]:
            out.print(Padding(text(changed_in_words(row["changed"]), "dim"), (0, 0, 0, 20), expand=False))
