"""Look at one topic in depth: the report, what is worst, and what the rulebook says of it."""

from __future__ import annotations

import argparse
from dataclasses import replace
from pathlib import Path
from typing import Any

from keymallet.commands.arguments.view import ROWS, ROWS_IN_SHORT
from keymallet.commands.exit_codes import CLEAN
from keymallet.commands.judging_inputs import JudgingInputs, open_inputs
from keymallet.commands.writing import output_stream, write_file, write_rows
from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.problems import fail
from keymallet.core.explaining.findings import findings
from keymallet.core.explaining.worst import worst_accounts
from keymallet.core.history.answerers import FACTS_USED, answerers_of_accounts
from keymallet.core.judging.judge import Judgement
from keymallet.core.judging.run import Run
from keymallet.core.judging.verdicts import Verdict
from keymallet.core.topics.registry import TOPICS
from keymallet.core.topics.report import Section, Topic, TopicReport, by_group, work_out
from keymallet.views.figures import figure_bytes, format_of
from keymallet.views.summary import show_gaps, show_rules, show_worst
from keymallet.views.terminal import console, moment, show_hints, text
from keymallet.views.topic import (
    show_groups,
    show_left_out,
    show_list,
    show_meanings,
    show_section,
    show_sentences,
)
from keymallet.views.topic_figures import topic_figure
from keymallet.views.topic_words.registry import WORDS


def run(options: argparse.Namespace) -> int:
    """Work the topic out and show it. Raises KeymalletError for a topic or grouping there is not."""
    if options.format == "table" and (options.part or options.groups):
        raise fail("--part and --groups choose which rows are written", hint="add --format csv or json")
    topic = _topic(options.topic)
    by = _grouping(options.by, topic)
    inputs = open_inputs(options)
    book = inputs.rulebook
    if not topic.whole_book:
        book = book.only(lambda demand: demand.topic == topic.name)
    asked = topic.asked(inputs.rulebook)
    expressions = [*book.expressions(), *asked.values()]
    judgement = inputs.judge(inputs.evidence(expressions, FACTS_USED if by in WHOSE else {}), book)
    report = work_out(topic, judgement, inputs.rulebook)
    if by in WHOSE:
        report = _with_whose(report, judgement, inputs, topic)
    groups = by_group(report, by)
    outcome = inputs.run(judgement)
    if options.figure:
        _draw(options.figure, report, outcome, options.by or topic.drawn_by or by)
    if options.format == "table":
        _show(options, topic, judgement, outcome, report, groups)
    else:
        head = {
            "organisation": inputs.organisation,
            "topic": topic.name,
            "at": inputs.at,
            "rulebook": outcome.rulebook_digest,
            "register": outcome.register_digest or None,
            "snapshot": inputs.snapshot.digest,
            "gaps": outcome.gaps,
            "told": WORDS[topic.name].sentences(report, inputs.clock),
            "states": {state.word: state.meaning for state in report.states},
        }
        if options.part:
            section = _part(options.part, report)
            write_rows(options, section.rows, {**head, "part": section.name}, "rows")
        elif options.groups:
            write_rows(options, groups, {**head, "by": by}, "groups")
        else:
            write_rows(options, report.rows, head, "rows")
    return CLEAN


def _topic(name: str) -> Topic:
    if name not in TOPICS:
        raise fail(
            f'there is no topic "{name}"',
            hint=did_you_mean(name, TOPICS) or f"there are: {', '.join(TOPICS)}",
        )
    return TOPICS[name]


WHOSE = ("answerer", "manager")
"""Groupings that are no fact of the rows: who answers for the account, and its person's manager by name."""


def _with_whose(
    report: TopicReport, judgement: Judgement, inputs: JudgingInputs, topic: Topic
) -> TopicReport:
    """The report with who answers for each row's account."""
    if "account" not in report.rows.columns:
        raise fail(f"--by: {topic.name} is not about accounts, and nobody answers for its rows one by one")
    entries = inputs.estate.answers if inputs.estate else ()
    whose = answerers_of_accounts(judgement.context.frames, entries, topic.name)
    rows = report.rows.drop(WHOSE, strict=False).join(whose, on="account", how="left", maintain_order="left")
    return replace(report, rows=rows)


def _grouping(by: str | None, topic: Topic) -> str:
    if by is not None and by not in (*topic.groupings, *WHOSE):
        groupings = (*topic.groupings, *WHOSE)
        hint = did_you_mean(by, groupings) or f"there are: {', '.join(groupings)}"
        raise fail(f'--by: {topic.name} cannot be grouped by "{by}"', hint=hint)
    return by or topic.groupings[0]


def _part(name: str, report: TopicReport) -> Section:
    parts = {section.name: section for section in report.sections}
    if name not in parts:
        available = f"there are: {', '.join(parts)}" if parts else "there is none on this evidence"
        raise fail(
            f'--part: {report.topic} has no table "{name}"', hint=did_you_mean(name, parts) or available
        )
    return parts[name]


def _draw(file: str, report: TopicReport, outcome: Run, by: str) -> None:
    form = format_of(file)
    write_file(Path(file), figure_bytes(topic_figure(report, outcome, by), form))


def _show(
    options: argparse.Namespace,
    topic: Topic,
    judgement: Judgement,
    outcome: Run,
    report: TopicReport,
    groups: Any,
) -> None:
    with output_stream(options.output) as stream:
        out = console(stream)
        out.print(text(topic.title, "bold"))
        out.print(text(f"{outcome.organisation}, {moment(outcome.at, outcome.clock)}", "dim"))
        out.print()
        show_sentences(out, report, outcome.clock)
        out.print()
        show_groups(out, report, groups, all_of_them=options.all)
        if options.all:
            show_meanings(out, report)
            for section in report.sections:
                show_section(out, section, report, outcome.clock)
        most = (ROWS if options.all else ROWS_IN_SHORT) if options.rows is None else options.rows
        if most and report.rows.height:
            out.print()
            show_list(out, report, most, outcome.clock)
        hints = [(f"keymallet view {topic.name} --by {topic.groupings[1]}", "grouped otherwise")]
        counts = [count for count in outcome.counts if count.rule.topic == topic.name]
        if not options.all:
            show_left_out(out, report, len(counts))
            hints.insert(0, (f"keymallet view {topic.name} --all", "all of that"))
        elif counts:
            out.print()
            out.print(text("what the rulebook says of it", "dim"))
            show_rules(out, counts, len(counts))
            rows, breached = worst_accounts(judgement, options.worst, topic.name)
            if len(rows):
                out.print()
                names = judgement.evidence.tables["account"]["account"].gather(rows).to_list()
                shown = findings(judgement, (Verdict.BREACH,), rows, topic.name)
                show_worst(out, outcome, shown, names, breached)
                hints.insert(0, (f"keymallet show {names[0]}", "everything on one account"))
        out.print()
        show_gaps(out, outcome.gaps)
        show_hints(out, hints)
