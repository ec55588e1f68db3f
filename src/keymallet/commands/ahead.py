"""Show what will turn to breach and when, if nothing changes: by week, by rule, and what is first."""

from __future__ import annotations

import argparse
from datetime import timedelta
from pathlib import Path

import polars as pl

from keymallet.commands.exit_codes import CLEAN
from keymallet.commands.judging_inputs import open_inputs
from keymallet.commands.writing import output_stream, write_file, write_rows
from keymallet.core.base.listing import how_many
from keymallet.core.base.problems import fail
from keymallet.core.evaluating.steps import END
from keymallet.core.judging.judge import Judgement
from keymallet.core.judging.run import Run
from keymallet.core.language.literals import parse_span
from keymallet.core.studies.ahead import Week, coming, described, spread, weeks
from keymallet.outputs.calendar import to_calendar
from keymallet.outputs.run_record import run_record
from keymallet.views.ahead import ahead_figure, show_by_rule, show_first, show_heaviest, show_weeks
from keymallet.views.figures import figure_bytes, format_of
from keymallet.views.summary import show_gaps, show_run
from keymallet.views.terminal import console, show_hints, text

LONGEST = timedelta(days=3_660)
RULES_SHOWN = 12


def run(options: argparse.Namespace) -> int:
    """Judge, look ahead, show and write. Raises KeymalletError if the request cannot be carried out."""
    length = _span(options.span)
    if options.spread and options.capacity is None:
        raise fail("--spread needs to know how much can be done", hint="add --capacity 40/week")
    inputs = open_inputs(options)
    judgement = inputs.judge(inputs.evidence(inputs.rulebook.expressions()))
    end = inputs.at + min(length, END - inputs.at)
    events = coming(judgement, end)
    if options.spread:
        events = spread(events, inputs.clock, inputs.at, options.capacity)
    outcome = inputs.run(judgement)
    schedule = weeks(events, inputs.clock, inputs.at, end)
    _write_files(options, judgement, events, outcome, schedule)
    if options.format == "table":
        first = described(judgement, events.head(options.most))
        _show(options, events, first, outcome, schedule)
    else:
        write_rows(options, described(judgement, events), run_record(outcome), "ahead")
    return CLEAN


def _span(written: str) -> timedelta:
    span = parse_span(written)
    if not span:
        raise fail(f'--for "{written}" is no length of time', hint="like 90d, 26w, 12h")
    if span > LONGEST:
        raise fail(f'--for "{written}" is more than ten years', hint="like 90d, 26w")
    return span


def _write_files(
    options: argparse.Namespace,
    judgement: Judgement,
    events: pl.DataFrame,
    outcome: Run,
    schedule: list[Week],
) -> None:
    if options.figure:
        form = format_of(options.figure)
        figure = ahead_figure(schedule, outcome, options.capacity)
        write_file(Path(options.figure), figure_bytes(figure, form))
    if options.calendar:
        write_file(Path(options.calendar), to_calendar(described(judgement, events), outcome, options.by))


def _show(
    options: argparse.Namespace, events: pl.DataFrame, first: pl.DataFrame, outcome: Run, schedule: list[Week]
) -> None:
    with output_stream(options.output) as stream:
        out = console(stream)
        show_run(out, outcome)
        out.print()
        show_weeks(out, schedule, options.capacity, spread=options.spread)
        if events.height:
            show_heaviest(out, events, outcome)
            out.print()
            show_by_rule(out, events, outcome, RULES_SHOWN)
            out.print()
            out.print(text("first of all", "dim"))
            show_first(out, first, outcome, events.height - first.height)
        out.print()
        verb = "finding turns" if events.height == 1 else "findings turn"
        closing = f"{events.height:,} {verb} to breach within {options.span} if nothing changes."
        if options.spread:
            unfit = events["planned"].null_count()
            closing += (
                f" {how_many(unfit, 'finding')} cannot be done in time at this capacity."
                if unfit
                else " All of it can be done in time."
            )
        out.print(text(closing, "bold"))
        hints = [("keymallet ahead --capacity 40/week --spread", "plan the work before it is due")]
        if options.spread:
            hints = [
                (
                    "keymallet ahead --capacity N/week --spread --calendar plan.ics",
                    "the plan for your calendar",
                )
            ]
        show_gaps(out, outcome.gaps)
        show_hints(out, [*hints, ("keymallet ahead --format csv --output ahead.csv", "all of it")])
