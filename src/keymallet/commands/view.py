"""Look at one topic in depth: the report, what is worst, and what the rulebook says of it.

Topics: factors, passwords, lockouts, exemptions, elevation, temporary.
"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

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
    from keymallet.core.judging.judge import Judgement
    from keymallet.core.judging.run import Run
    from keymallet.core.topics.report import Section, Topic, TopicReport

EXAMPLES = [
    ("keymallet view factors", "who can prove a sign-in with what, and who is made to"),
    ("keymallet view factors --by unit --figure coverage.png", "coverage by unit, and a report of it"),
    ("keymallet view factors --format csv --output factors.csv", "a line for every account"),
    ("keymallet view elevation --part openings --format csv", "every opening, and what is amiss with it"),
]
WORST = 5
ROWS = 12


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument("topic", metavar="TOPIC", help="which topic")
    parser.add_argument("--by", metavar="COLUMN", help="group by this: unit, kind, source and the like")
    parser.add_argument("--figure", metavar="FILE", help="draw it: a .png or .svg file")
    add_rows_format(parser)
    parser.add_argument("--groups", action="store_true", help="with --format: a row for each group instead")
    parser.add_argument(
        "--part",
        metavar="NAME",
        help="with --format: the rows of one of its tables, such as gates or openings",
    )
    parser.add_argument("--rows", type=number_of("rows"), default=ROWS, metavar="N",
                        help=f"rows of the list (default: {ROWS})")  # fmt: skip
    parser.add_argument("--worst", type=number_of("accounts"), default=WORST, metavar="N",
                        help=f"accounts in breach shown (default: {WORST})")  # fmt: skip
    parser.add_argument("--all", action="store_true", help="every group, and every rule of the topic")
    add_judging(parser)


def run(options: argparse.Namespace) -> int:
    """Work the topic out and show it. Raises KeymalletError for a topic or grouping there is not."""
    from keymallet.core.topics.report import by_group, work_out

    if options.format == "table" and (options.part or options.groups):
        from keymallet.core.base.problems import fail

        raise fail("--part and --groups choose which rows are written", hint="add --format csv or json")
    topic = _topic(options.topic)
    by = _grouping(options.by, topic)
    case = open_case(options)
    book = case.rulebook
    if not topic.whole_book:
        book = book.only(lambda demand: demand.topic == topic.name)
    asked = topic.asked(case.rulebook)
    judgement = case.judge(case.evidence([*book.expressions(), *asked.values()]), book)
    report = work_out(topic, judgement)
    groups = by_group(report, by)
    outcome = case.run(judgement)
    if options.figure:
        _draw(options.figure, report, outcome, options.by or topic.drawn_by or by)
    if options.format == "table":
        _show(options, topic, judgement, outcome, report, groups)
    else:
        head = {
            "organisation": case.organisation,
            "topic": topic.name,
            "at": case.at,
            "rulebook": case.rulebook.digest,
            "snapshot": case.snapshot.digest,
            "told": list(report.told),
            "states": {state.word: state.meaning for state in report.states},
        }
        if options.part:
            section = _part(options.part, report)
            write_rows(options, section.rows, {**head, "part": section.title}, "rows")
        elif options.groups:
            write_rows(options, groups, {**head, "by": by}, "groups")
        else:
            write_rows(options, report.rows, head, "rows")
    return CLEAN


def _topic(name: str) -> Topic:
    from keymallet.core.base.nearest import did_you_mean
    from keymallet.core.base.problems import fail
    from keymallet.core.topics.registry import TOPICS

    if name not in TOPICS:
        raise fail(
            f'there is no topic "{name}"',
            hint=did_you_mean(name, TOPICS) or f"there are: {', '.join(TOPICS)}",
        )
    return TOPICS[name]


def _grouping(by: str | None, topic: Topic) -> str:
    from keymallet.core.base.nearest import did_you_mean
    from keymallet.core.base.problems import fail

    if by is not None and by not in topic.groupings:
        hint = did_you_mean(by, topic.groupings) or f"there are: {', '.join(topic.groupings)}"
        raise fail(f'--by: {topic.name} cannot be grouped by "{by}"', hint=hint)
    return by or topic.groupings[0]


def _part(name: str, report: TopicReport) -> Section:
    from keymallet.core.base.nearest import did_you_mean
    from keymallet.core.base.problems import fail

    parts = {section.name: section for section in report.sections}
    if name not in parts:
        told = f"there are: {', '.join(parts)}" if parts else "there is none on this evidence"
        raise fail(f'--part: {report.topic} has no table "{name}"', hint=did_you_mean(name, parts) or told)
    return parts[name]


def _draw(file: str, report: TopicReport, outcome: Run, by: str) -> None:
    from keymallet.views.figures import figure_bytes, format_of
    from keymallet.views.topic_figures import topic_figure

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
    from keymallet.core.explaining.findings import findings, worst_accounts
    from keymallet.views.summary import show_hints, show_rules, show_worst
    from keymallet.views.terminal import console, moment, text
    from keymallet.views.topic import show_groups, show_list, show_meanings, show_section, show_told

    with output_stream(options.output) as stream:
        out = console(stream)
        out.print(text(topic.title, "bold"))
        out.print(text(f"{outcome.organisation}, {moment(outcome.at, outcome.clock)}", "dim"))
        out.print()
        show_told(out, report)
        out.print()
        show_groups(out, report, groups, all_of_them=options.all)
        show_meanings(out, report)
        for section in report.sections:
            show_section(out, section, outcome.clock)
        if options.rows and report.rows.height:
            out.print()
            show_list(out, report, options.rows, outcome.clock)
        hints = [(f"keymallet view {topic.name} --by {topic.groupings[1]}", "grouped otherwise")]
        counts = [each for each in outcome.counts if each.rule.topic == topic.name]
        if counts:
            out.print()
            out.print(text("what the rulebook says of it", "dim"))
            show_rules(out, counts, len(counts) if options.all else ROWS, "--all")
            rows, breached = worst_accounts(judgement, options.worst, topic.name)
            if len(rows):
                out.print()
                names = judgement.evidence.tables["account"]["account"].gather(rows).to_list()
                told = findings(judgement, accounts=rows, topic=topic.name)
                show_worst(out, outcome, told, names, breached)
                hints.insert(0, (f"keymallet show {names[0]}", "everything on one account"))
        out.print()
        show_hints(out, hints)
