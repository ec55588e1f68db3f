"""What lies ahead: week by week, the heaviest days, who is first; on the terminal and as a figure."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any

import polars as pl
from rich.console import Console
from rich.table import Table
from rich.text import Text

from keymallet.core.base.listing import and_more, how_many
from keymallet.core.judging.run import Run
from keymallet.core.rulebook.model import SEVERITIES
from keymallet.core.studies.ahead import Week, days, monday_of
from keymallet.store.logbook.records import RunLine
from keymallet.views.figures import HATCHES, INK, PALE, SERIES, new_figure
from keymallet.views.plain_table import PlainTable
from keymallet.views.terminal import SEVERITY_STYLES, day, moment, text

BAR = 18
RULES_NAMED = 1
HEAVIEST = 5


@dataclass(frozen=True)
class Due:
    """What is open and has to be mended in the time that is looked at, as a run knew it."""

    findings: pl.DataFrame
    run: RunLine


def show_weeks(
    out: Console, schedule: list[Week], capacity: int | None, due: Due | None, run: Run, *, spread: bool
) -> None:
    """Print a line for each week: how much turns, what of it is late or beyond the capacity, and of what.

    With `due` also how much that is open has to be mended in it, and before that how much is past due.
    """
    table = PlainTable()
    by_week: Counter[date] = Counter()
    if due is not None and due.findings.height:
        ahead = due.findings.filter(pl.col("due") >= run.at)
        by_week = Counter(map(monday_of, days(ahead["due"], run.clock)))
        number, late = due.findings.height, due.findings.height - ahead.height
        verb = "open finding has" if number == 1 else "open findings have"
        told = f"{number:,} {verb} to be mended by then, {late:,} are past due"
        out.print(text(f"{told} (run {due.run.number}, {moment(due.run.judged_at, run.clock)})"))
        out.print()
    table.add_column("week from", no_wrap=True, min_width=10)
    table.add_column("turn to breach", justify="right", no_wrap=True, min_width=14)
    if by_week:
        table.add_column("due", justify="right", no_wrap=True, min_width=4)
    if spread:
        table.add_column("planned", justify="right", no_wrap=True, min_width=7)
        table.add_column("late", justify="right", no_wrap=True, min_width=4)
    bar = "█ in time ▓ late" if spread else "█ within ▓ beyond" if capacity else ""
    table.add_bar(bar, BAR)
    table.add_column("most of them", ratio=1, overflow="fold")
    most = max([week.turning for week in schedule] + [capacity or 1, 1])
    for week in schedule:
        numbers = [week.turning]
        numbers += [by_week[week.monday]] if by_week else []
        numbers += [week.planned, week.late] if spread else []
        beyond = week.late if spread else max(week.turning - capacity, 0) if capacity else 0
        cells = [f"{number:,}" if number else "·" for number in numbers]
        drawn = _bar(week.turning, beyond, most)
        table.add_row(f"{week.monday:%Y-%m-%d}", *cells, drawn, text(_mostly(week.by_rule), "dim"))
    out.print(table)


def _bar(number: int, beyond: int, most: int) -> Text:
    """All of a week, the end of it marked that is beyond what can be done; any of either has a cell."""
    if not number:
        return Text("")
    cells = max(1 + (0 < beyond < number), round(BAR * number / most))
    marked = cells if beyond == number else min(max(round(BAR * beyond / most), beyond > 0), cells - 1)
    return Text("█" * (cells - marked), "cyan").append("▓" * marked, "red")


def _mostly(by_rule: Counter[str]) -> str:
    named = [f"{rule} {number:,}" for rule, number in by_rule.most_common(RULES_NAMED)]
    rest = len(by_rule) - RULES_NAMED
    return ", ".join(named) + (f", {how_many(rest, 'other')}" if rest > 0 else "")


def show_by_rule(out: Console, events: pl.DataFrame, run: Run, most: int) -> None:
    """Print a line for each rule: how much of it, and when the first is due."""
    table = PlainTable()
    for name in ("rule", "severity"):
        table.add_column(name)
    table.add_column("turn to breach", justify="right")
    table.add_column("first")
    table.add_column("last")
    grouped = events.group_by("rule", "severity").agg(
        pl.len(), first=pl.col("at").min(), last=pl.col("at").max()
    )
    ranked = sorted(
        grouped.iter_rows(named=True),
        key=lambda row: (-SEVERITIES[row["severity"]], -row["len"], row["rule"]),
    )
    for row in ranked[:most]:
        severity = SEVERITIES[row["severity"]]
        table.add_row(
            text(row["rule"]),
            Text(row["severity"], SEVERITY_STYLES[severity]),
            f"{row['len']:,}",
            day(row["first"], run.clock),
            day(row["last"], run.clock),
        )
    out.print(table)
    if len(ranked) > most:
        out.print(text(and_more(len(ranked) - most, "rule"), "dim"))


def show_heaviest(out: Console, events: pl.DataFrame, run: Run) -> None:
    """Print the days on which most turns to breach."""
    counted = Counter(days(events["at"], run.clock).to_list())
    heavy = [f"{day:%Y-%m-%d} ({number:,})" for day, number in _heaviest(counted)]
    out.print(text(f"heaviest days: {', '.join(heavy)}"))


def _heaviest(counted: Counter[date]) -> list[tuple[date, int]]:
    return sorted(counted.items(), key=lambda pair: (-pair[1], pair[0]))[:HEAVIEST]


def show_first(out: Console, events: pl.DataFrame, run: Run, more: int) -> None:
    """Print what turns first: when, what, who; and how many more there are."""
    table = Table.grid(padding=(0, 2, 0, 0))
    for width in (10, 10):
        table.add_column(width=width)
    table.add_column(ratio=1, overflow="fold")
    planned = "planned" in events.columns
    for row in events.iter_rows(named=True):
        who = f"{row['account'] or ''}{' [' + row['subject'] + ']' if row['subject'] else ''}"
        said = text(f"{who}: ").append_text(text(row["title"], "dim"))
        if planned:
            when = f"mend on {row['planned']:%a %Y-%m-%d}" if row["planned"] else "cannot be done in time"
            said.append_text(text(f" · {when}", "dim italic" if row["planned"] else "red"))
        severity = SEVERITIES[row["severity"]]
        table.add_row(day(row["at"], run.clock), Text(row["severity"], SEVERITY_STYLES[severity]), said)
    out.print(table)
    if more:
        out.print(text(f"{and_more(more)} (--format csv)", "dim"))


def ahead_figure(schedule: list[Week], run: Run, capacity: int | None) -> Any:
    """Stacked bars, one for each week, by rule; the capacity as a line, the plan as marks."""
    total = sum(week.turning for week in schedule)
    first, last = schedule[0].monday, schedule[-1].monday + timedelta(days=6)
    figure, axes = new_figure(
        f"{how_many(total, 'finding')} will turn to breach if nothing changes",
        f"{run.organisation}, week by week from {first:%Y-%m-%d} to {last:%Y-%m-%d}; {run.rulebook_title}",
    )
    sums: Counter[str] = Counter()
    for week in schedule:
        sums.update(week.by_rule)
    named = [rule for rule, _ in sums.most_common(len(SERIES) - 1)]
    places = range(len(schedule))
    base = [0] * len(schedule)
    for number, rule in enumerate([*named, None] if len(sums) > len(named) else named):
        heights = [
            week.by_rule[rule]
            if rule is not None
            else sum(item for name, item in week.by_rule.items() if name not in named)
            for week in schedule
        ]
        label = f"{rule} ({sums[rule]:,})" if rule is not None else f"{len(sums) - len(named)} other rules"
        axes.bar(places, heights, bottom=base, width=0.72, label=label, color=SERIES[number],
                 hatch=HATCHES[number], edgecolor="white", linewidth=0.6)  # fmt: skip
        base = [low + height for low, height in zip(base, heights, strict=True)]
    if capacity is not None:
        axes.axhline(capacity, color=INK, linewidth=1.6, linestyle=(0, (6, 3)))
        axes.annotate(f"capacity {capacity} a week", (len(schedule) - 0.5, capacity), xytext=(0, 5),
                      textcoords="offset points", ha="right", color=INK, fontsize=10)  # fmt: skip
    if any(week.planned for week in schedule):
        late = sum(week.late for week in schedule)
        label = f"planned before it turns{f' ({late:,} cannot be done in time)' if late else ''}"
        axes.plot(places, [week.planned for week in schedule], "o-", color=INK, markersize=5, linewidth=1,
                  label=label)  # fmt: skip
    axes.set_xticks(
        list(places), [f"{week.monday:%d %b}" for week in schedule], rotation=0 if len(schedule) < 16 else 60
    )
    axes.set_ylabel("turn to breach in the week", color=INK)
    axes.set_ylim(0, max([*base, capacity or 0, 1]) * 1.12)
    if sums:
        legend = axes.legend(
            loc="upper center", bbox_to_anchor=(0.5, -0.09), ncols=4, frameon=False, fontsize=10
        )
        for label in legend.get_texts():
            label.set_color(INK)
    axes.set_xlabel("week that begins on", color=PALE)
    return figure
