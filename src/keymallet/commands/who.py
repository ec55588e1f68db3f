"""Pick accounts, or any other rows, by an expression of the rule language: any question, any columns.

The rulebook's terms and limits can be used by name. Where it cannot be told whether a row is meant,
it is not listed, but counted.
"""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from keymallet.commands.common import add_judging, add_rows_format, open_case, output_stream, write_rows
from keymallet.commands.main import CLEAN

if TYPE_CHECKING:
    from zoneinfo import ZoneInfo

    from keymallet.core.studies.query import QueryResult

EXAMPLES = [
    ("keymallet who 'privileged and no factor (phishing-resistant)'", "power without a strong factor"),
    (
        "keymallet who 'age(last-sign-in) > limit.idle' --columns 'unit, last-sign-in' --sort last-sign-in",
        "who was away longest, with what you want to see of them",
    ),
    ("keymallet who 'kind = api-key and state = active' --each key --format csv", "every working API key"),
]  # fmt: skip
SHOWN = 40


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument("expression", metavar="EXPRESSION", help="what has to be true of them")
    parser.add_argument(
        "--each", metavar="TABLE", default="account", help="pick rows of this table (default: account)"
    )
    parser.add_argument(
        "--columns",
        metavar="LIST",
        help="facts or expressions to show, with commas between (default: those asked about)",
    )
    parser.add_argument("--sort", metavar="EXPRESSION", help="the smallest or earliest first")
    parser.add_argument("--reverse", action="store_true", help="with --sort: the largest or latest first")
    parser.add_argument("--unknown", action="store_true", help="list those of whom it cannot be told")
    add_rows_format(parser)
    parser.add_argument("--all", action="store_true", help=f"print every row, not only the first {SHOWN}")
    add_judging(parser)


def run(options: argparse.Namespace) -> int:
    """Pick and print. Raises KeymalletError with every fault of the expressions."""
    from keymallet.core.base.nearest import did_you_mean
    from keymallet.core.base.problems import KeymalletError, Problem
    from keymallet.core.evaluating.context import EvaluationContext
    from keymallet.core.facts.declaration import TABLES, tables_with_verdicts
    from keymallet.core.facts.model import Kind
    from keymallet.core.judging.register_facts import registered
    from keymallet.core.rulebook.question import read_condition, read_value, split_list
    from keymallet.core.studies.query import pick, usual_columns

    names = [table.name for table in tables_with_verdicts()]
    if options.each not in names:
        hint = did_you_mean(options.each, names) or f"there are: {', '.join(names)}"
        raise KeymalletError(Problem(f'--each: there is no table "{options.each}"', hint=hint))
    case, table = open_case(options), TABLES[options.each]
    condition = read_condition(options.expression, table, case.rulebook, "the expression")
    wanted = split_list(options.columns) if options.columns else usual_columns(table, condition)
    columns = {each: read_value(each, table, case.rulebook, "--columns") for each in wanted}
    sort = read_value(options.sort, table, case.rulebook, "--sort") if options.sort else None
    if sort is not None and sort.type.kind is Kind.WORDS:
        hint = f"sort by its length({options.sort})"
        raise KeymalletError(Problem(f'--sort: "{options.sort}" is a list, and has no order', hint=hint))
    asked = [(table.name, node) for node in (condition, *columns.values(), *([sort] if sort else []))]
    evidence = case.evidence(asked)
    if case.register is not None:
        evidence, _ = registered(evidence, case.register, case.rulebook, case.at)
    context = EvaluationContext(evidence, case.at, case.clock)
    found = pick(
        context, table, condition, columns, sort, descending=options.reverse, unknown=options.unknown
    )
    if options.format == "table":
        _show(options, case.clock, found, table.name)
    else:
        head = {
            "organisation": case.organisation,
            "asked": options.expression,
            "at": case.at,
            "unknown": found.unknown,
        }
        write_rows(options, found.rows, head, "rows")
    return CLEAN


def _show(options: argparse.Namespace, clock: ZoneInfo, found: QueryResult, noun: str) -> None:
    from keymallet.core.base.listing import how_many
    from keymallet.views.rows import show_rows
    from keymallet.views.terminal import console, text

    with output_stream(options.output) as stream:
        out = console(stream)
        shown = found.rows if options.all else found.rows.head(SHOWN)
        if shown.height:
            show_rows(out, shown, found.kinds, clock)
        plural = "people" if noun == "person" else ""
        told = f"{found.rows.height:,} of {how_many(found.asked, noun, plural)}"
        if shown.height < found.rows.height:
            told += f", the first {shown.height} shown (--all)"
        out.print(text(told, "bold"))
        if found.unknown and not options.unknown:
            out.print(text(f"of {found.unknown:,} more it cannot be told (--unknown lists them)", "yellow"))
