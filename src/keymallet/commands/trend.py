"""Show how findings went run by run, how long mending takes, and what is open longest."""

from __future__ import annotations

import argparse
from datetime import datetime
from pathlib import Path

import polars as pl

from keymallet.commands.exit_codes import CLEAN
from keymallet.commands.logbooks import open_logbook
from keymallet.commands.opening import open_estate
from keymallet.commands.runs import last_judged
from keymallet.commands.writing import output_stream, write_file, write_rows
from keymallet.core.base.problems import fail
from keymallet.core.history.states import LASTING
from keymallet.core.history.trends import times_to_mend
from keymallet.core.language.clocks import instant_in
from keymallet.core.language.literals import parse_span
from keymallet.sources.estate import Estate
from keymallet.store.logbook.logbook import TRANSITIONS, Logbook
from keymallet.store.logbook.records import RunLine
from keymallet.views.figures import figure_bytes, format_of
from keymallet.views.terminal import console
from keymallet.views.trend import Trend, show_trend, trend_figure

LONGEST = 5


def run(options: argparse.Namespace) -> int:
    """Show, draw or write the runs since an instant."""
    estate = open_estate(options.estate)
    logbook = open_logbook(estate)
    every = logbook.runs()
    last = last_judged(every)
    judged = [line for line in every if line.judged]
    since = _since(options.since, last.judged_at, estate)
    runs = [line for line in judged if line.judged_at >= since]
    if not runs:
        raise fail(f"there is no run since {options.since}", hint="keymallet logbook list has all")
    failed = [line for line in every if not line.judged and line.ran_at >= runs[0].ran_at]
    trend = Trend(
        estate.organisation,
        runs,
        failed,
        {line.number: logbook.record(line).counts.get(options.by, {}) for line in runs} if options.by else {},
        _mending(logbook, judged, since),
        _longest(logbook, last),
        estate.clock,
    )
    if options.figure:
        form = format_of(options.figure)
        write_file(Path(options.figure), figure_bytes(trend_figure(trend, options.by), form))
    if options.format != "table":
        write_rows(options, trend.rows(), {"organisation": estate.organisation, "since": since}, "runs")
        return CLEAN
    with output_stream(options.output) as stream:
        show_trend(console(stream), trend, options.by, options.rows or None)
    return CLEAN


def _since(wanted: str, last: datetime, estate: Estate) -> datetime:
    span = parse_span(wanted)
    if span:
        return last - span
    day = instant_in(wanted, estate.clock)
    if day is None:
        raise fail(f'--since "{wanted}" is neither a span nor a day', hint="like 26w, or 2026-11-24")
    return day


def _mending(logbook: Logbook, judged: list[RunLine], since: datetime) -> pl.DataFrame:
    changes = pl.concat([pl.DataFrame(schema=TRANSITIONS), *map(logbook.transitions, judged)])
    return times_to_mend(changes, {line.number: line.judged_at for line in judged}, since)


def _longest(logbook: Logbook, last: RunLine) -> pl.DataFrame:
    """What has been open longest by the last run, and is still in breach or not seen."""
    columns = ("finding-id", "state", "severity", "account", "subject", "rule", "answerer", "open-since")
    table = logbook.findings(last, columns)
    lasting = table.filter(pl.col("state").is_in(list(map(str, LASTING))) & (pl.col("state") != "exempt"))
    return lasting.sort("open-since", "rule", "account", maintain_order=True).head(LONGEST)
