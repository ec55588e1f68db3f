"""The figures of the topics: one for each, of what its report is about."""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta
from typing import Any

import polars as pl

from keymallet.core.base.intervals import START, STOP
from keymallet.core.base.listing import how_many
from keymallet.core.judging.run import Occasion
from keymallet.core.topics.elevation import AMISS
from keymallet.core.topics.lockouts import BUCKET
from keymallet.core.topics.passwords import BIN
from keymallet.core.topics.report import Tone, TopicReport, by_group
from keymallet.core.topics.temporary import WEEKS, WEEKS_BACK
from keymallet.views.figures import HATCHES, INK, PALE, SERIES, new_figure, second_panel
from keymallet.views.terminal import day
from keymallet.views.topic_words.registry import WORDS

COLOURS = {
    Tone.GRAVE: "#8f2d1d",
    Tone.WORRY: "#e0a458",
    Tone.OPEN: "#b9a7c4",
    Tone.FAIR: "#7fa7b8",
    Tone.FINE: "#6a8d73",
    Tone.QUIET: "#d9d5c8",
}
MOST_BARS = 16


def topic_figure(report: TopicReport, run: Occasion, by: str) -> Any:
    """The figure of a topic; `by` groups it where it has groups."""
    return _FIGURES[report.topic](report, run, by)


def _headline(report: TopicReport) -> str:
    return WORDS[report.topic].headline(report)


def _subtitle(run: Occasion, what: str) -> str:
    return f"{run.organisation}, {day(run.at, run.clock)}: {what}"


def _coverage(report: TopicReport, run: Occasion, by: str) -> Any:
    """A bar for each group, divided by state, the worst on top; beside it how many nothing asks."""
    # Those of no group are no unit that somebody leads: they come last.
    groups = by_group(report, by).sort(pl.col(by).is_null(), maintain_order=True).head(MOST_BARS).reverse()
    figure, axes = new_figure(_headline(report), _subtitle(run, f"what {report.noun}s can "
                              f"prove a sign-in with, by {by}, the worst on top"))  # fmt: skip
    _bars(axes, groups, report, by)
    for place, row in enumerate(groups.iter_rows(named=True)):
        if row["not asked"]:
            axes.annotate(f"{row['not asked']:,} asked by no gate", (1.01, place), va="center", fontsize=9,
                          color=INK, annotation_clip=False)  # fmt: skip
    return figure


def _bars(axes: Any, groups: pl.DataFrame, report: TopicReport, by: str) -> None:
    """Horizontal bars of shares; the number in each part that has room for it."""
    places = list(range(groups.height))
    left = [0.0] * groups.height
    for number, state in enumerate(
        other_state for other_state in report.states if groups[other_state.word].sum()
    ):
        shares = (groups[state.word] / groups["all"]).to_list()
        label = f"{state.word} ({groups[state.word].sum():,})"
        axes.barh(places, shares, left=left, height=0.7, label=label, color=COLOURS[state.tone],
                  hatch=HATCHES[number], edgecolor="white", linewidth=0.7)  # fmt: skip
        for place, (share, start) in enumerate(zip(shares, left, strict=True)):
            if share > 0.035:
                axes.annotate(f"{groups[state.word][place]:,}", (start + share / 2, place), ha="center",
                              va="center", fontsize=8.5, color=INK, bbox=_BEHIND)  # fmt: skip
        left = [start + share for start, share in zip(left, shares, strict=True)]
    names = [f"{name if name is not None else '(none)'}  ({number:,})"
             for name, number in groups.select(by, "all").iter_rows()]  # fmt: skip
    axes.set_yticks(places, names)
    axes.set_xlim(0, 1)
    axes.set_xticks([0, 0.25, 0.5, 0.75, 1], ["0", "25 %", "50 %", "75 %", "100 %"])
    axes.set_xlabel(f"share of the {report.noun}s", color=PALE)
    axes.yaxis.grid(visible=False)
    if groups.height:
        axes.legend(loc="upper center", bbox_to_anchor=(0.5, -0.09), ncols=5, frameon=False, fontsize=10)


def _register(report: TopicReport, run: Occasion, by: str) -> Any:
    """A bar for each entry from its beginning to its end, with reviews and drills, and the day judged at."""
    rows = report.rows.head(MOST_BARS).reverse()
    figure, axes = new_figure(_headline(report), _subtitle(run, "each entry from its first day to its end"))
    now = run.at
    starts = [pair or now - _YEAR for pair in rows["from"]]
    least = min([*starts, now - _YEAR])
    ends = [pair or max(now, start) + _YEAR for pair, start in zip(rows["until"], starts, strict=True)]
    tones = {state.word: state.tone for state in report.states}
    for place, row in enumerate(rows.iter_rows(named=True)):
        start, end = starts[place], ends[place]
        axes.barh(place, end - start, left=start, height=0.5, color=COLOURS[tones[row["state"]]],
                  hatch="" if row["until"] else "//", edgecolor="white", linewidth=0.7)  # fmt: skip
        for what, mark in (("reviewed", "o"), ("drilled", "D")):
            if row[what]:
                axes.plot([row[what]], [place], mark, color=INK, markersize=6)
        amiss = ", ".join(row["problems"]) or "in order"
        axes.annotate(f"{row['state']}: {amiss}" if row["problems"] else row["state"], (least, place + 0.33),
                      fontsize=8.5, color=INK)  # fmt: skip
    axes.axvline(now, color=INK, linewidth=1.4, linestyle=(0, (6, 3)))
    axes.annotate("judged at", (now, rows.height - 0.4), xytext=(5, 0), textcoords="offset points",
                  color=INK, fontsize=10)  # fmt: skip
    axes.set_yticks(range(rows.height), [f"{name}  ({number:,})" for name, number in
                                         rows.select("exemption", "excuses").iter_rows()])  # fmt: skip
    axes.set_ylim(-0.6, max(rows.height, 1) - 0.1)
    for word in dict.fromkeys(rows["state"].to_list()[::-1]):
        axes.barh(0, timedelta(0), left=now, color=COLOURS[tones[word]], label=word)
    for what, mark in (("reviewed", "o"), ("tried in a drill", "D")):
        axes.plot([], [], mark, color=INK, markersize=6, label=what)
    axes.barh(0, timedelta(0), left=now, color="white", hatch="//", edgecolor=PALE, label="no end")
    axes.set_xlabel("in brackets: breaches that it covers", color=PALE)
    axes.yaxis.grid(visible=False)
    axes.legend(loc="upper center", bbox_to_anchor=(0.5, -0.09), ncols=6, frameon=False, fontsize=10)
    return figure


def _timeline(report: TopicReport, run: Occasion, by: str) -> Any:
    """Each opening at the day it began, as high as it was long; what is amiss is marked and named."""
    opened = report.drawn["openings"].sort(START, maintain_order=True)
    hours = (opened[STOP] - opened[START]).dt.total_seconds() / 3600
    too_long = (pl.col("lasted") > pl.col("opened_for")) | (pl.col("stretch") > pl.col("opened_stretch"))
    amiss = opened.select((pl.any_horizontal(AMISS) | too_long).fill_null(False)).to_series()
    number, wrong = opened.height, int(amiss.sum())
    figure, axes = new_figure(
        f"{how_many(number, 'elevation')} in 12 weeks, {wrong:,} of them amiss",
        _subtitle(run, f"how long each was open; {_headline(report)}"),
    )
    roles = opened["role"].value_counts().sort("count", "role", descending=[True, False])["role"].to_list()
    for place, (row, long, bad) in enumerate(zip(opened.iter_rows(named=True), hours, amiss, strict=True)):
        series = min(roles.index(row["role"]), len(SERIES) - 1)
        colour = SERIES[1] if bad else SERIES[0]
        axes.vlines(row[START], 0, long, color=colour, linewidth=2.2)
        axes.plot([row[START]], [long], _MARKS[series % len(_MARKS)], color=colour, markersize=7,
                  markerfacecolor="white" if bad else colour, markeredgewidth=1.8)  # fmt: skip
        if bad and _is_highest_around(place, opened, hours, amiss):
            name = str(row["account"]).partition("/")[2] or row["account"]
            axes.annotate(f"{name} ", (row[START], long), xytext=(-4, 5), textcoords="offset points",
                          ha="right", fontsize=8.5, color=INK, bbox=_BEHIND)  # fmt: skip
    for place, role in enumerate(roles[: len(_MARKS)]):
        axes.plot([], [], _MARKS[place], color=SERIES[0], markersize=7, label=role)
    if wrong:
        axes.plot([], [], "o-", color=SERIES[1], markersize=7, markerfacecolor="white", label="amiss")
    axes.axvline(run.at, color=INK, linewidth=1.4, linestyle=(0, (6, 3)))
    axes.set_xlim(run.at - timedelta(weeks=12), run.at + timedelta(days=2))
    axes.set_ylim(0, max([*hours.to_list(), 1]) * 1.15)
    axes.set_ylabel("hours open", color=INK)
    axes.set_xlabel("the day each began; dashed: the instant judged at", color=PALE)
    if number:
        axes.legend(loc="upper center", bbox_to_anchor=(0.5, -0.09), ncols=4, frameon=False, fontsize=10)
    return figure


def _is_highest_around(place: int, opened: pl.DataFrame, hours: pl.Series, amiss: pl.Series) -> bool:
    """Whether nothing else that is amiss within two days is longer: names must not cover each other."""
    near = (opened[START] - opened[START][place]).abs() < timedelta(days=2)
    others = hours.filter(near & amiss).to_list()
    first = int((near & amiss & (hours == hours[place])).arg_true()[0])
    return bool(hours[place] == max(others) and first == place)


def _ages(report: TopicReport, run: Occasion, by: str) -> Any:
    """The spread of ages by kind of account with the limits drawn, and below the wave that comes due."""
    ages, limits, wave = (report.drawn[name] for name in ("ages", "limits", "wave"))
    figure, axes = new_figure(_headline(report), _subtitle(run, "ages of passwords, and what comes due"))
    below = second_panel(figure, axes)
    last = min(max(ages["bin"].to_list(), default=0), MOST_BINS)
    days = BIN / timedelta(days=1)
    base = [0] * (last + 1)
    for number, kind in enumerate(ages["kind"].unique().sort().to_list()[: len(SERIES)]):
        heights = [0] * (last + 1)
        for place, many in ages.filter(pl.col("kind") == kind).select("bin", "number").iter_rows():
            heights[min(place, last)] += many
        lefts = [place * days for place in range(last + 1)]
        axes.bar(lefts, heights, bottom=base, width=days * 0.92, align="edge", color=SERIES[number],
                 hatch=HATCHES[number], edgecolor="white", linewidth=0.5,
                 label=f"{kind} ({sum(heights):,})")  # fmt: skip
        base = [low + height for low, height in zip(base, heights, strict=True)]
    for span, number in limits.sort("number", descending=True, maintain_order=True).head(3).iter_rows():
        at = span / timedelta(days=1)
        if at <= (last + 1) * days:
            axes.axvline(at, color=INK, linewidth=1.5, linestyle=(0, (6, 3)))
            axes.annotate(f"limit {at:,.0f} d ({number:,})", (at, max([*base, 1])), xytext=(5, -2), color=INK,
                          textcoords="offset points", fontsize=9.5, va="top")  # fmt: skip
    axes.set_ylim(0, max([*base, 1]) * 1.12)
    axes.set_ylabel("passwords", color=INK)
    end = f"; the last bar: all of {last * days:,.0f} d and more" if last == MOST_BINS else ""
    axes.set_xlabel(f"age in days, a bar for each {days:,.0f}{end}", color=PALE)
    if ages.height:
        axes.legend(loc="upper right", frameon=False, fontsize=10)
    below.bar(
        wave["week"].to_list(), wave["number"].to_list(), width=0.72, color=SERIES[1], edgecolor="white"
    )
    for week, number in wave.iter_rows():
        if number:
            below.annotate(f"{number:,}", (week, number), xytext=(0, 2), textcoords="offset points",
                           ha="center", fontsize=9, color=INK)  # fmt: skip
    starts = [run.at + timedelta(weeks=week) for week in wave["week"]]
    below.set_xticks(wave["week"].to_list(), [f"{start.astimezone(run.clock):%d %b}" for start in starts])
    below.set_ylabel("reach their limit", color=INK)
    below.set_xlabel("in the week from", color=PALE)
    return figure


def _locks(report: TopicReport, run: Occasion, by: str) -> Any:
    """Failed sign-ins over the last two weeks, and below a line for each lock that holds, since when."""
    failures, locks = report.drawn["failures"], report.drawn["locks"]
    figure, axes = new_figure(
        _headline(report), _subtitle(run, "failed sign-ins, six hours a bar, and the locks that hold")
    )
    lefts = [run.at - BUCKET * (place + 1) for place in failures["bucket"].to_list()]
    axes.bar(lefts, failures["number"].to_list(), width=BUCKET * 0.9, align="edge", color=SERIES[0],
             edgecolor="white", linewidth=0.5)  # fmt: skip
    first = run.at - timedelta(days=14)
    axes.set_ylim(0, max([*failures["number"].to_list(), 1]) * 1.08)
    axes.yaxis.get_major_locator().set_params(integer=True)
    axes.set_ylabel("failed sign-ins", color=INK)
    axes.set_xlim(first, run.at + timedelta(hours=12))
    axes.axvline(run.at, color=INK, linewidth=1.4, linestyle=(0, (6, 3)))
    if not locks.height:
        axes.set_xlabel("dashed: the instant judged at", color=PALE)
        return figure
    shown = locks.sort("since", nulls_last=False, maintain_order=True).head(MOST_BARS)
    below = second_panel(figure, axes, 1 - min(0.12 + 0.035 * shown.height, 0.5))
    for place, row in enumerate(reversed(list(shown.iter_rows(named=True)))):
        since = row["since"]
        begins = max(since or first, first)
        below.barh(place, run.at - begins, left=begins, height=0.5, color=SERIES[1],
                   hatch="" if since else "//", edgecolor="white", linewidth=0.5)  # fmt: skip
        if since is None or since < first:
            told = f"since {day(since, run.clock)}" if since else "since when is not known"
            below.annotate(told, (first, place), xytext=(6, 0), textcoords="offset points", va="center",
                           fontsize=9, color=INK, bbox=_BEHIND)  # fmt: skip
        else:
            below.annotate(f"{since.astimezone(run.clock):%d %b %H:%M} ", (begins, place), ha="right",
                           va="center", fontsize=9, color=INK)  # fmt: skip
    names = [str(name).partition("/")[2] or str(name) for name in reversed(shown["account"].to_list())]
    below.set_yticks(range(shown.height), names)
    below.set_ylim(-0.6, shown.height - 0.4)
    below.set_xlim(axes.get_xlim())
    below.yaxis.grid(visible=False)
    below.axvline(run.at, color=INK, linewidth=1.4, linestyle=(0, (6, 3)))
    more = locks.height - shown.height
    told = f"; {more:,} more" if more else ""
    below.set_xlabel(
        f"accounts that are locked, and since when{told}; dashed: the instant judged at", color=PALE
    )
    return figure


def _calendar(report: TopicReport, run: Occasion, by: str) -> Any:
    """A strip of days: what ends when, a lane each for accounts, passwords and keys."""
    ends = report.drawn["ends"]
    lanes = [lane for lane in ("account", "password", "key") if ends.filter(pl.col("lane") == lane).height]
    over = int(ends.filter(pl.col("day") < 0)["number"].sum())
    total = int(ends["number"].sum())
    title = f"{total:,} {'end' if total != 1 else 'ends'} in these weeks"
    if over:
        title += f", {over:,} of them {'are' if over != 1 else 'is'} past and still there"
    figure, axes = new_figure(title, _subtitle(run, f"what ends on which day; {_headline(report)}"))
    today = run.at.astimezone(run.clock).date()
    for place, lane in enumerate(reversed(lanes)):
        mine = ends.filter(pl.col("lane") == lane)
        most = max([*mine["number"].to_list(), 1])
        axes.axhline(place, color=PALE, linewidth=0.8)
        for when, number in mine.select("day", "number").iter_rows():
            height = 0.15 + 0.6 * number / most
            colour = SERIES[1] if when < 0 else SERIES[0]
            axes.bar(when, height, bottom=place, width=0.8, color=colour, hatch="//" if when < 0 else "",
                     edgecolor="white", linewidth=0.4)  # fmt: skip
            if number > 1:
                axes.annotate(f"{number:,}", (when, place + height), xytext=(0, 1), ha="center", fontsize=8,
                              textcoords="offset points", color=INK)  # fmt: skip
        title = how_many(int(mine["number"].sum()), lane) + " with an end in these weeks"
        axes.annotate(title, (-7 * WEEKS_BACK, place + 0.86), fontsize=10, color=INK)
    axes.axvline(-0.5, color=INK, linewidth=1.4, linestyle=(0, (6, 3)))
    days = range(-7 * WEEKS_BACK, 7 * WEEKS + 1, 14)
    axes.set_xticks(list(days), [f"{today + timedelta(days=day):%d %b}" for day in days])
    axes.set_xlim(-7 * WEEKS_BACK - 1, 7 * WEEKS + 1)
    axes.set_yticks([])
    axes.set_ylim(0, max(len(lanes), 1))
    axes.set_xlabel(
        "dashed: before today · hatched: over, and still there · each lane has its own scale", color=PALE
    )
    axes.yaxis.grid(visible=False)
    return figure


_BEHIND = {"boxstyle": "round,pad=0.15", "facecolor": "white", "edgecolor": "none", "alpha": 0.85}
_MARKS = ("o", "s", "^", "D", "v", "P")
MOST_BINS = 40
_YEAR = timedelta(days=365)
_FIGURES: dict[str, Callable[[TopicReport, Occasion, str], Any]] = {
    "factors": _coverage,
    "exemptions": _register,
    "temporary": _calendar,
    "lockouts": _locks,
    "passwords": _ages,
    "elevation": _timeline,
}
