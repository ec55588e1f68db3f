"""Show what will turn to breach and when, if nothing changes: by week, by rule, and what is first.

Only time is taken to go on: what people and systems will do until then cannot be known.
"""

from __future__ import annotations

import argparse
import re
from datetime import timedelta
from pathlib import Path
from typing import TYPE_CHECKING

from keymallet.commands.common import (
    add_judging,
    add_rows_format,
    number_of,
    open_case,
    output_stream,
    write_file,
    write_rows,
)
from keymallet.commands.main import CLEAN

if TYPE_CHECKING:
    import polars as pl

    from keymallet.core.judging.judge import Judgement
    from keymallet.core.judging.run import Run
    from keymallet.core.studies.ahead import Week

EXAMPLES = [
    ("keymallet ahead", "the next 90 days, week by week"),
    (
        "keymallet ahead --for 26w --capacity 12/week --spread",
        "half a year, and a plan that keeps every week within what can be done",
    ),
    (
        "keymallet ahead --figure ahead.png --calendar ahead.ics",
        "the same as a figure, and for your calendar",
    ),
]
LONGEST = timedelta(days=3_660)
RULES_SHOWN = 12


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument(
        "--for", dest="span", metavar="SPAN", default="90d", help="how far to look: 90d, 26w (default: 90d)"
    )
    parser.add_argument(
        "--capacity", metavar="N/week", type=_capacity, help="how much can be mended in a week, like 40/week"
    )
    parser.add_argument(
        "--spread",
        action="store_true",
        help="plan a day for each, so that no week is over capacity and none is late",
    )
    parser.add_argument(
        "--most", type=number_of("findings"), default=12, metavar="N", help="how many to list (default: 12)"
    )
    add_rows_format(parser)
    parser.add_argument("--figure", metavar="FILE", help="draw the weeks: a .png or .svg file")
    parser.add_argument("--calendar", metavar="FILE", help="write an iCalendar file")
    parser.add_argument(
        "--by",
        choices=("account", "day"),
        default="account",
        help="with --calendar: an event for each (default: account)",
    )
    add_judging(parser)


def _capacity(written: str) -> int:
    found = re.fullmatch(r"(\d{1,7})(?:/week)?", written)
    if not found or not int(found[1]):
        raise argparse.ArgumentTypeError(f'"{written}" is no capacity: write it like 40/week')
    return int(found[1])


def run(options: argparse.Namespace) -> int:
    """Judge, look ahead, show and write. Raises KeymalletError if the request cannot be carried out."""
    from keymallet.core.base.problems import fail
    from keymallet.core.evaluating.steps import END
    from keymallet.core.studies.ahead import coming, described, spread, weeks

    length = _span(options.span)
    if options.spread and options.capacity is None:
        raise fail("--spread needs to know how much can be done", hint="add --capacity 40/week")
    case = open_case(options)
    judgement = case.judge(case.evidence(case.rulebook.expressions()))
    end = case.at + min(length, END - case.at)
    events = coming(judgement, end)
    if options.spread:
        events = spread(events, case.clock, case.at, options.capacity)
    outcome = case.run(judgement)
    found = weeks(events, case.clock, case.at, end)
    _write_files(options, judgement, events, outcome, found)
    if options.format == "table":
        first = described(judgement, events.head(options.most))
        _show(options, events, first, outcome, found)
    else:
        from keymallet.outputs.run_record import run_record

        write_rows(options, described(judgement, events), run_record(outcome), "ahead")
    return CLEAN


def _span(written: str) -> timedelta:
    from keymallet.core.base.problems import fail
    from keymallet.core.language.literals import parse_span

    found = parse_span(written)
    if not found:
        raise fail(f'--for "{written}" is no length of time', hint="like 90d, 26w, 12h")
    if found > LONGEST:
        raise fail(f'--for "{written}" is more than ten years', hint="like 90d, 26w")
    return found


def _write_files(
    options: argparse.Namespace, judgement: Judgement, events: pl.DataFrame, outcome: Run, found: list[Week]
) -> None:
    if options.figure:
        from keymallet.views.ahead import ahead_figure
        from keymallet.views.figures import figure_bytes, format_of

        form = format_of(options.figure)
        figure = ahead_figure(found, outcome, options.capacity)
        write_file(Path(options.figure), figure_bytes(figure, form))
    if options.calendar:
        from keymallet.core.studies.ahead import described
        from keymallet.outputs.calendar import to_calendar

        write_file(Path(options.calendar), to_calendar(described(judgement, events), outcome, options.by))


def _show(
    options: argparse.Namespace, events: pl.DataFrame, first: pl.DataFrame, outcome: Run, found: list[Week]
) -> None:
    from keymallet.core.base.listing import how_many
    from keymallet.views.ahead import show_by_rule, show_first, show_heaviest, show_weeks
    from keymallet.views.summary import show_hints, show_run
    from keymallet.views.terminal import console, text

    with output_stream(options.output) as stream:
        out = console(stream)
        show_run(out, outcome)
        out.print()
        show_weeks(out, found, options.capacity)
        if events.height:
            show_heaviest(out, events, outcome)
            out.print()
            show_by_rule(out, events, outcome, RULES_SHOWN)
            out.print()
            out.print(text("first of all", "dim"))
            show_first(out, first, outcome, events.height - first.height)
        out.print()
        verb = "finding turns" if events.height == 1 else "findings turn"
        told = f"{events.height:,} {verb} to breach within {options.span} if nothing changes."
        if options.spread:
            unfit = events["planned"].null_count()
            told += (
                f" {how_many(unfit, 'finding')} cannot be planned in time."
                if unfit
                else " All can be planned in time."
            )
        out.print(text(told, "bold"))
        hints = [("keymallet ahead --capacity 40/week --spread", "plan the work so that nobody is late")]
        if options.spread:
            hints = [
                (
                    "keymallet ahead --capacity N/week --spread --calendar plan.ics",
                    "the plan for your calendar",
                )
            ]
        show_hints(out, [*hints, ("keymallet ahead --format csv --output ahead.csv", "all of it")])
