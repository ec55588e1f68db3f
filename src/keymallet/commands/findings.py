"""List the findings that are open by the last run, the late ones first; or tell the life of one."""

from __future__ import annotations

import argparse
from typing import Any

import polars as pl

from keymallet.commands.arguments.findings import ROWS
from keymallet.commands.exit_codes import CLEAN
from keymallet.commands.logbooks import open_logbook
from keymallet.commands.opening import open_estate
from keymallet.commands.runs import chosen_run
from keymallet.commands.writing import output_stream, write_rows
from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.problems import fail
from keymallet.core.history.added import added
from keymallet.core.history.columns import ADDED, FINDING
from keymallet.core.history.states import LASTING
from keymallet.core.rulebook.model import SEVERITIES
from keymallet.sources.estate import Estate
from keymallet.store.logbook.logbook import Logbook
from keymallet.store.logbook.records import RunLine
from keymallet.views.findings import show_life, show_numbers_by, show_open
from keymallet.views.terminal import console, show_hints

_LEAST_OF_ID = 4
_WRITTEN = (
    "rule",
    "title",
    "severity",
    "account",
    "subject",
    "display",
    "unit",
    "because",
    "since",
    "change",
)


def run(options: argparse.Namespace) -> int:
    """Show or write what is open; with an id, one finding's life."""
    estate = open_estate(options.estate)
    logbook = open_logbook(estate)
    runs = logbook.runs()
    chosen = chosen_run(runs, options.run, estate.clock)
    table = logbook.findings(chosen)
    table = table.with_columns(added(table, chosen.judged_at).drop(FINDING))
    if options.finding:
        return _show_one(options, estate, logbook, runs, table)
    found = _wanted(table, options)
    if options.format != "table":
        rows = found.select(*ADDED, *_WRITTEN)
        write_rows(options, rows, {"organisation": estate.organisation, "run": chosen.number}, "findings")
        return CLEAN
    most = ROWS if options.rows is None else options.rows or None
    with output_stream(options.output) as stream:
        out = console(stream)
        if options.by:
            show_numbers_by(out, chosen, found, options.by, estate.clock)
            hints = [("keymallet findings --answerer WHO", "what one of them has to mend")]
        else:
            show_open(out, chosen, found, most, estate.clock)
            hints = [("keymallet findings --by answerer", "how much each has")]
            if found.height:
                hints.insert(
                    0, (f"keymallet findings {found[FINDING][0][:8]}", "the life of the first of them")
                )
        out.print()
        show_hints(out, hints)
    return CLEAN


def _wanted(table: pl.DataFrame, options: argparse.Namespace) -> pl.DataFrame:
    """The findings that are not over, the late ones first, then by due date and severity."""
    found = table.filter(pl.col("state").is_in([*map(str, LASTING)]))
    if options.answerer:
        known = found["answerer"].drop_nulls().unique().to_list()
        if options.answerer not in known:
            hint = did_you_mean(options.answerer, known) or f"those who do: {', '.join(sorted(known)[:8])}"
            raise fail(f'"{options.answerer}" answers for nothing that is open', hint=hint)
        found = found.filter(pl.col("answerer") == options.answerer)
    if options.late:
        found = found.filter(pl.col("late-by").is_not_null())
    grade = pl.col("severity").cast(pl.Enum(list(SEVERITIES)))
    return found.sort(
        pl.col("late-by").is_null(),
        pl.col("due").is_null(),
        "due",
        grade,
        "rule",
        "account",
        nulls_last=True,
        maintain_order=True,
    )


def _show_one(
    options: argparse.Namespace, estate: Estate, logbook: Logbook, runs: list[RunLine], table: pl.DataFrame
) -> int:
    beginning = options.finding.lower()
    if len(beginning) < _LEAST_OF_ID:
        raise fail(f'"{options.finding}" is too short for an id', hint="give at least four of its digits")
    here = table.filter(pl.col(FINDING).str.starts_with(beginning))
    ids = dict.fromkeys([*here[FINDING], *logbook.called(beginning)])
    if len(ids) != 1:
        hint = "keymallet findings --rows 0 lists them"
        if ids:
            raise fail(f'several findings begin with "{beginning}"', hint=f"{', '.join(list(ids)[:5])}")
        raise fail(f'the logbook knows no finding "{beginning}"', hint=hint)
    (finding,) = ids
    life = logbook.life(finding)
    told = _as_it_stands(finding, here, life)
    if options.format != "table":
        rows = life.select(
            "run", "state", "was", "cause", "rule", "account", "subject", "answerer", "first-seen"
        )
        write_rows(options, rows, {"finding": finding}, "life")
        return CLEAN
    instants = {line.number: line.judged_at for line in runs}
    with output_stream(options.output) as stream:
        out = console(stream)
        show_life(out, told, life, instants, estate.clock)
        out.print()
        hints = [(f"keymallet rules show {told['rule']}", "what the rule requires")]
        if told["account"]:
            hints.insert(0, (f"keymallet show {told['account']}", "everything on the account"))
        show_hints(out, hints)
    return CLEAN


def _as_it_stands(finding: str, here: pl.DataFrame, life: pl.DataFrame) -> dict[str, Any]:
    """The finding as the run has it, or as its last change left it."""
    if here.height:
        found = here.row(0, named=True)
        if found["state"] is not None or not life.height:
            return found
    last: dict[str, Any] = life.row(-1, named=True)
    return last | {FINDING: finding}
