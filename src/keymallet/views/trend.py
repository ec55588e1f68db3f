"""Runs one after the other, on the terminal and as a figure."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import timedelta
from itertools import pairwise
from statistics import median
from typing import Any
from zoneinfo import ZoneInfo

import polars as pl
from rich.console import Console
from rich.text import Text

from keymallet.core.base.listing import and_more, how_many
from keymallet.core.history.states import State
from keymallet.core.rulebook.model import SEVERITIES
from keymallet.store.logbook.records import RunLine
from keymallet.views.changes import in_breach
from keymallet.views.figures import HATCHES, INK, PALE, SERIES, new_figure, second_panel
from keymallet.views.history import PAST_DUE, STATE_STYLES, show_failed
from keymallet.views.plain_table import PlainTable
from keymallet.views.terminal import SEVERITY_STYLES, day, moment, show_hints, stretch, text

BAR = 24
_DAY = timedelta(days=1)
_GROUPS = 5
_TICKS = 14
_COUNTED = (State.NEW, State.BACK, State.MENDED, State.NOT_SEEN)


@dataclass(frozen=True)
class Trend:
    """Runs that came to verdicts, the oldest first, those that failed; and what is known over all of them.

    `groups` gives, by the number of a run, how many were in breach of each group.
    """

    organisation: str
    runs: Sequence[RunLine]
    failed: Sequence[RunLine]
    groups: Mapping[int, Mapping[str, int]]
    mending: pl.DataFrame
    longest: pl.DataFrame
    clock: ZoneInfo

    def rows(self) -> pl.DataFrame:
        """A row for each run."""
        return pl.DataFrame(
            {
                "run": [run.number for run in self.runs],
                "judged-at": [run.judged_at for run in self.runs],
                "in-breach": [in_breach(run.states) for run in self.runs],
                "past-due": [run.states.get(PAST_DUE, 0) for run in self.runs],
                **{
                    str(state).replace(" ", "-"): [run.states.get(state, 0) for run in self.runs]
                    for state in State
                    if state not in (State.OPEN, State.LATE)
                },
            },
            schema_overrides={"judged-at": pl.Datetime("us", "UTC")},
        )

    def named(self) -> list[str]:
        """The groups with most in breach in the last run, or over all runs where the last has none."""
        sums: Counter[str] = Counter()
        for counts in self.groups.values():
            sums.update(counts)
        last = self.groups.get(self.runs[-1].number, {})
        return sorted(sums, key=lambda name: (-last.get(name, 0), -sums[name], name))


def show_trend(out: Console, trend: Trend, by: str | None, most: int | None) -> None:
    """Print a line for each run, how long mending took, and what is open longest."""
    first, last = trend.runs[0], trend.runs[-1]
    span = f"{day(first.judged_at, trend.clock)} to {day(last.judged_at, trend.clock)}"
    before, now = in_breach(first.states), in_breach(last.states)
    said = f"{how_many(len(trend.runs), 'run')} from {span}: {before:,} in breach, now {now:,}"
    out.print(text(said, "bold"))
    show_failed(out, trend.failed, trend.clock)
    out.print()
    (_show_groups if by else _show_runs)(out, trend, by or "", most)
    if trend.mending.height:
        out.print()
        _show_mending(out, trend)
    if trend.longest.height:
        out.print()
        _show_longest(out, trend)
    out.print()
    show_hints(
        out,
        [
            ("keymallet changes", "what the last run changed, and why"),
            ("keymallet trend --figure trend.png", "drawn, for a report"),
        ],
    )


def _shown(trend: Trend, most: int | None) -> Sequence[RunLine]:
    return trend.runs if most is None else trend.runs[-most:]


def _show_runs(out: Console, trend: Trend, by: str, most: int | None) -> None:
    table = PlainTable()
    table.add_column("judged at", no_wrap=True)
    table.add_column("in breach", justify="right", no_wrap=True)
    table.add_column("past due", justify="right", no_wrap=True)
    for state in _COUNTED:
        table.add_column(str(state), justify="right", no_wrap=True)
    table.add_bar("█ in breach ▓ past due", BAR)
    highest = max([in_breach(run.states) for run in trend.runs] + [1])
    for run in _shown(trend, most):
        number, late = in_breach(run.states), run.states.get(PAST_DUE, 0)
        counted = ((run.states.get(state, 0), STATE_STYLES[state]) for state in _COUNTED)
        table.add_row(
            moment(run.judged_at, trend.clock),
            f"{number:,}",
            Text(f"{late:,}", STATE_STYLES[State.LATE]) if late else "·",
            *(Text(f"{count:,}", style) if count else Text("·") for count, style in counted),
            _bar(number, late, highest),
        )
    out.print(table)
    left = len(trend.runs) - len(_shown(trend, most))
    if left:
        out.print(text(f"{and_more(left, 'earlier run')} (--rows 0)", "dim"))


def _bar(number: int, late: int, highest: int) -> Text:
    cells = max(round(BAR * number / highest), int(number > 0))
    marked = min(cells, max(round(BAR * late / highest), int(late > 0)))
    return Text("▓" * marked, "red").append("█" * (cells - marked), "cyan")


def _show_groups(out: Console, trend: Trend, by: str, most: int | None) -> None:
    named = trend.named()
    table = PlainTable()
    table.add_column("judged at", no_wrap=True)
    for name in named[:_GROUPS]:
        table.add_column(name, justify="right", overflow="fold")
    others = len(named) > _GROUPS
    if others:
        table.add_column(f"{len(named) - _GROUPS} others", justify="right", no_wrap=True)
    for run in _shown(trend, most):
        counts = trend.groups[run.number]
        rest = sum(number for name, number in counts.items() if name not in named[:_GROUPS])
        numbers = [counts.get(name, 0) for name in named[:_GROUPS]] + ([rest] if others else [])
        cells = (f"{number:,}" if number else "·" for number in numbers)
        table.add_row(moment(run.judged_at, trend.clock), *cells)
    out.print(text(f"in breach, by {by}", "dim"))
    out.print(table)


def _show_mending(out: Console, trend: Trend) -> None:
    out.print(text("how long mending took, of what was mended", "dim"))
    table = PlainTable()
    table.add_column("severity", no_wrap=True)
    for name in ("mended", "half within", "nine in ten within"):
        table.add_column(name, justify="right", no_wrap=True)
    for row in trend.mending.iter_rows(named=True):
        severity = Text(row["severity"], SEVERITY_STYLES[SEVERITIES[row["severity"]]])
        table.add_row(severity, f"{row['mended']:,}", stretch(row["median"]), stretch(row["slow"]))
    out.print(table)


def _show_longest(out: Console, trend: Trend) -> None:
    out.print(text("open longest", "dim"))
    last = trend.runs[-1].judged_at
    table = PlainTable(header=False)
    table.add_column(no_wrap=True)
    table.add_column(no_wrap=True)
    table.add_column(ratio=1)
    for row in trend.longest.iter_rows(named=True):
        who = f"{row['account'] or ''}{' [' + row['subject'] + ']' if row['subject'] else ''}: "
        severity = Text(f"  {row['severity']}", SEVERITY_STYLES[SEVERITIES[row["severity"]]])
        said = text(who.removeprefix(": ")).append_text(text(f"{row['rule']}, {row['answerer']}", "dim"))
        age = max(last - row["open-since"], timedelta()) if row["open-since"] else timedelta()
        table.add_row(severity, stretch(age), said)
    out.print(table)


def trend_figure(trend: Trend, by: str | None) -> Any:
    """What is in breach over time, by group or with what is past due; below it what came and was mended."""
    first, last = trend.runs[0], trend.runs[-1]
    span = f"{day(first.judged_at, trend.clock)} to {day(last.judged_at, trend.clock)}"
    figure, axes = new_figure(
        f"{in_breach(last.states):,} findings in breach, {in_breach(first.states):,} at first",
        f"{trend.organisation}, {how_many(len(trend.runs), 'run')} from {span}",
    )
    below = second_panel(figure, axes)
    instants = [run.judged_at.astimezone(trend.clock).replace(tzinfo=None) for run in trend.runs]
    if by:
        named = trend.named()
        heights = [[trend.groups[run.number].get(name, 0) for run in trend.runs] for name in named[:_GROUPS]]
        labels = list(named[:_GROUPS])
        if len(named) > _GROUPS:
            rest = named[_GROUPS:]
            heights.append(
                [sum(trend.groups[run.number].get(name, 0) for name in rest) for run in trend.runs]
            )
            labels.append(f"{len(rest)} others")
    else:
        late = [run.states.get(PAST_DUE, 0) for run in trend.runs]
        open_ones = [in_breach(run.states) - number for run, number in zip(trend.runs, late, strict=True)]
        heights, labels = [late, open_ones], ["past due", "within its time"]
    colours = SERIES if by else (SERIES[1], SERIES[0])
    drawn = axes.stackplot(instants, heights, labels=labels, colors=colours[: len(labels)], edgecolor="white")
    for area, hatch in zip(drawn, HATCHES, strict=False):
        area.set_hatch(hatch)
    marks = [sum(column) for column in zip(*heights, strict=True)]
    axes.plot(instants, marks, "o", color=INK, markersize=4)
    axes.set_ylabel("in breach", color=INK)
    axes.set_ylim(0, max([*marks, 1]) * 1.25)
    axes.legend(loc="upper left", frameon=False, fontsize=10, ncols=3, labelcolor=INK)
    gaps = [(later - earlier) / _DAY for earlier, later in pairwise(instants)]
    width = max(0.6 * median(gaps or [1]), 0.3)
    came = [run.states.get(State.NEW, 0) + run.states.get(State.BACK, 0) for run in trend.runs]
    mended = [-run.states.get(State.MENDED, 0) for run in trend.runs]
    # Of the first run of a logbook all is new: that tells nothing of the week.
    came[0] = 0 if trend.runs[0].number == 1 else came[0]
    below.bar(instants, came, width=width, color=SERIES[1], label="new or back", hatch=HATCHES[1],
              edgecolor="white")  # fmt: skip
    below.bar(instants, mended, width=width, color=SERIES[3], label="mended", edgecolor="white")
    below.axhline(0, color=PALE, linewidth=0.8)
    below.yaxis.set_major_formatter(lambda value, _: f"{abs(value):,.0f}")
    below.set_ylabel("came / mended", color=INK)
    below.legend(loc="upper left", frameon=False, fontsize=10, ncols=2, labelcolor=INK)
    margin = _DAY * max(width, sum(gaps) / 40)
    for each in (axes, below):
        each.set_xlim(instants[0] - margin, instants[-1] + margin)
        days = list({instant.date(): instant for instant in instants}.values())
        each.set_xticks(days if len(days) <= _TICKS else days[:: len(days) // _TICKS + 1])
        each.xaxis.set_major_formatter(_days(instants))
    return figure


def _days(instants: Sequence[Any]) -> Any:
    import matplotlib.dates

    pattern = "%d %b" if instants[0].year == instants[-1].year else "%d %b %Y"
    return matplotlib.dates.DateFormatter(pattern)  # type: ignore[no-untyped-call]
