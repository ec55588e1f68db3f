"""Pick accounts, or any other rows, by an expression of the rule language: any question, any columns."""

from __future__ import annotations

import argparse
from dataclasses import replace

from keymallet.commands.arguments.who import SHOWN
from keymallet.commands.exit_codes import CLEAN
from keymallet.commands.judging_inputs import JudgingInputs, open_inputs
from keymallet.commands.writing import output_stream, write_rows
from keymallet.core.base.listing import how_many
from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.problems import KeymalletError, Problem, fail
from keymallet.core.evaluating.context import EvaluationContext
from keymallet.core.facts.declaration import ACCOUNT, EXEMPTION, TABLES, tables_with_verdicts
from keymallet.core.facts.model import Kind
from keymallet.core.history.answerers import FACTS_USED, answerers_of_accounts
from keymallet.core.history.answers import Answers
from keymallet.core.history.columns import ANSWERER
from keymallet.core.judging.register_facts import registered
from keymallet.core.rulebook.question import read_condition, read_value, split_list
from keymallet.core.studies.query import (
    Picking,
    QueryResult,
    counted_by,
    pick,
    together,
    usual_columns,
    with_facts_of_accounts,
)
from keymallet.views.rows import show_rows
from keymallet.views.summary import show_gaps
from keymallet.views.terminal import console, text


def run(options: argparse.Namespace) -> int:
    """Pick and print. Raises KeymalletError with every fault of the expressions."""
    names = [table.name for table in tables_with_verdicts()]
    if options.each not in names:
        hint = did_you_mean(options.each, names) or f"there are: {', '.join(names)}"
        raise KeymalletError(Problem(f'--each: there is no table "{options.each}"', hint=hint))
    inputs, table = open_inputs(options), TABLES[options.each]
    condition = read_condition(options.expression, table, inputs.rulebook, "the expression")
    by = split_list(options.count_by) if options.count_by else []
    wanted = by or (split_list(options.columns) if options.columns else usual_columns(table, condition))
    whose = [name for name in wanted if name == ANSWERER]
    columns = {
        name: read_value(name, table, inputs.rulebook, "--columns") for name in wanted if name not in whose
    }
    sort = read_value(options.sort, table, inputs.rulebook, "--sort") if options.sort else None
    if sort is not None and sort.type.kind is Kind.WORDS:
        hint = f"sort by its length({options.sort})"
        raise KeymalletError(Problem(f'--sort: "{options.sort}" is a list, and has no order', hint=hint))
    if whose and not (table is ACCOUNT or table.of_account):
        raise fail(
            "--columns answerer: these rows are no account's", hint="it is for accounts, and what is theirs"
        )
    picking = Picking(table.name, condition, columns, sort, options.unknown)
    entries = inputs.estate.answers if inputs.estate else ()
    whose_wanted = wanted if whose else []
    if inputs.snapshot.shards > 1 and table is not EXEMPTION:
        parts = _picked_in_shards(options, inputs, picking, whose_wanted, entries)
    else:
        evidence = inputs.evidence(picking.asked, FACTS_USED if whose else None)
        if inputs.register is not None:
            evidence, _ = registered(evidence, inputs.register, inputs.rulebook, inputs.at)
        context = EvaluationContext(evidence, inputs.at, inputs.clock)
        parts = [pick(context, picking)]
        if whose:
            told = answerers_of_accounts(context.frames, entries, "")
            parts = [with_facts_of_accounts(parts[0], told, wanted)]
    result = together(parts, descending=options.reverse)
    if whose:
        result = replace(result, kinds=result.kinds | {ANSWERER: Kind.TEXT})
    if by:
        result = counted_by(result, by)
    if options.format == "table":
        _show(options, inputs, result, table.name)
    else:
        head = {
            "organisation": inputs.organisation,
            "asked": options.expression,
            "at": inputs.at,
            "unknown": result.unknown,
            "rests-on": inputs.digests,
            "gaps": inputs.gaps,
        }
        write_rows(options, result.rows, head, "rows")
    return CLEAN


def _picked_in_shards(
    options: argparse.Namespace,
    inputs: JudgingInputs,
    picking: Picking,
    whose: list[str],
    entries: tuple[Answers, ...],
) -> list[QueryResult]:
    from keymallet.commands.shards import shards_of
    from keymallet.sharded.picking import picked_in_shards

    with shards_of(options, inputs, picking.asked) as shards:
        return picked_in_shards(shards, picking, whose, entries)


def _show(options: argparse.Namespace, inputs: JudgingInputs, result: QueryResult, noun: str) -> None:
    with output_stream(options.output) as stream:
        out = console(stream)
        shown = result.rows if options.all else result.rows.head(SHOWN)
        if shown.height:
            show_rows(out, shown, result.kinds, inputs.clock)
        plural = "people" if noun == "person" else ""
        picked = int(result.rows["count"].sum()) if options.count_by else result.rows.height
        summary = f"{picked:,} of {how_many(result.asked, noun, plural)}"
        if shown.height < result.rows.height:
            summary += f", the first {shown.height} shown (--all)"
        out.print(text(summary, "bold"))
        if result.unknown and not options.unknown:
            out.print(text(f"{result.unknown:,} more: data missing (--unknown lists them)", "yellow"))
        show_gaps(out, inputs.gaps)
