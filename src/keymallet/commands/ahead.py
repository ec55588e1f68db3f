"""Show what will turn to breach and when, if nothing changes: by week, by rule, and what is first."""

from __future__ import annotations

import argparse
from datetime import datetime, timedelta
from pathlib import Path

import polars as pl

from keymallet.commands.exit_codes import CLEAN
from keymallet.commands.judging_inputs import JudgingInputs, history_facts, open_inputs
from keymallet.commands.last_known import LastKnown, last_known
from keymallet.commands.writing import output_stream, write_file, write_rows
from keymallet.core.base.listing import how_many
from keymallet.core.base.problems import fail
from keymallet.core.evaluating.steps import END
from keymallet.core.history.added import added
from keymallet.core.history.columns import ACCOUNT_KEY, ADDED, ADDED_SCHEMA, ANSWERER, FINDING
from keymallet.core.history.states import BROKEN
from keymallet.core.history.to_come import added_to_come
from keymallet.core.judging.judge import Judgement
from keymallet.core.judging.run import Run
from keymallet.core.language.literals import parse_span
from keymallet.core.studies.ahead import Week, coming, described, planned, spread, weeks
from keymallet.outputs.calendar import to_calendar
from keymallet.outputs.run_record import run_record
from keymallet.views.ahead import Due, ahead_figure, show_by_rule, show_first, show_heaviest, show_weeks
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
    in_full = options.format != "table" or bool(options.calendar)
    end = inputs.at + min(length, END - inputs.at)
    known = last_known(inputs.estate, _WANTED)
    told, events, judgement = _looked_ahead(options, inputs, end, known, in_full=in_full)
    if options.spread:
        events = spread(events, inputs.clock, inputs.at, options.capacity)
        told = planned(told, events)
    outcome = inputs.run(judgement)
    schedule = weeks(events, inputs.clock, inputs.at, end)
    due = _due_until(known, inputs.at, end)
    if options.figure:
        form = format_of(options.figure)
        figure = ahead_figure(schedule, outcome, options.capacity)
        write_file(Path(options.figure), figure_bytes(figure, form))
    if in_full:
        if options.calendar:
            write_file(Path(options.calendar), to_calendar(told, due, outcome, options.by))
        if options.format != "table":
            write_rows(options, told, run_record(outcome), "ahead")
    if options.format == "table":
        _show(options, events, told, outcome, schedule, Due(due, known.run) if known else None)
    return CLEAN


def _looked_ahead(
    options: argparse.Namespace,
    inputs: JudgingInputs,
    end: datetime,
    known: LastKnown | None,
    *,
    in_full: bool,
) -> tuple[pl.DataFrame, pl.DataFrame, Judgement]:
    """What is said of events, `in_full` of all of them with ADDED; the events; and the judging now."""
    entries = inputs.estate.answers if inputs.estate else ()
    findings = known.findings if known else None
    if inputs.snapshot.shards > 1:
        from keymallet.commands.shards import shards_of
        from keymallet.sharded.ahead import Telling, coming_in_shards

        telling = Telling(None, findings, entries) if in_full else Telling(options.most)
        also = history_facts(inputs.rulebook) if in_full else {}
        with shards_of(options, inputs) as shards:
            found = coming_in_shards(shards, end, telling, also)
        return found.told, found.events, found.among_all
    evidence = inputs.evidence_with_history() if in_full else inputs.evidence(inputs.rulebook.expressions())
    judgement = inputs.judge(evidence)
    events = coming(judgement, end)
    if not in_full:
        return described(judgement, events.head(options.most)), events, judgement
    to_come = added_to_come(judgement, events, findings, entries)
    return described(judgement, events).hstack(to_come), events, judgement


def _span(written: str) -> timedelta:
    span = parse_span(written)
    if not span:
        raise fail(f'--for "{written}" is no length of time', hint="like 90d, 26w, 12h")
    if span > LONGEST:
        raise fail(f'--for "{written}" is more than ten years', hint="like 90d, 26w")
    return span


_WANTED = (
    *(FINDING, ACCOUNT_KEY, "source", "name", "stable-id", "rule", "title", "severity", "account"),
    *("subject", "state", "first-seen", "due", ANSWERER, "cause"),
)


def _due_until(known: LastKnown | None, at: datetime, end: datetime) -> pl.DataFrame:
    """What is open at an instant and has to be mended by another, the first one first, with ADDED."""
    if known is None:
        return pl.DataFrame(schema={**dict.fromkeys(_WANTED, pl.String()), **ADDED_SCHEMA})
    is_open = pl.col("state").is_in(list(map(str, BROKEN)))
    due = known.findings.filter(is_open & (pl.col("due") <= end)).sort("due", FINDING)
    return due.drop(name for name in ADDED if name in due.columns).hstack(added(due, at))


def _show(
    options: argparse.Namespace,
    events: pl.DataFrame,
    first: pl.DataFrame,
    outcome: Run,
    schedule: list[Week],
    due: Due | None,
) -> None:
    with output_stream(options.output) as stream:
        out = console(stream)
        show_run(out, outcome)
        out.print()
        show_weeks(out, schedule, options.capacity, due, outcome, spread=options.spread)
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
        if due is not None and due.findings.height:
            hints.append(("keymallet findings", "what is open now, the late ones first, and whose"))
        show_hints(out, [*hints, ("keymallet ahead --format csv --output ahead.csv", "all of it")])
