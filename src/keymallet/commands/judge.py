"""Judge every account by the rulebook: who falls short, why, and what could not be told."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from pathlib import Path

from polars import DataFrame

from keymallet.commands.exit_codes import BREACH, CLEAN, INCOMPLETE
from keymallet.commands.judging_inputs import JudgingInputs, open_inputs
from keymallet.commands.writing import output_stream, write_file, write_rows
from keymallet.core.explaining.findings import (
    accounts_by_topic,
    findings,
    on_numbers,
    on_people,
    on_register,
    on_systems,
    worst_accounts,
)
from keymallet.core.explaining.untold import untold
from keymallet.core.judging.judge import Judgement
from keymallet.core.judging.run import Run
from keymallet.core.rulebook.model import SEVERITIES
from keymallet.outputs.run_record import run_record, to_run_file
from keymallet.views.intake import has_gaps, show_intake
from keymallet.views.summary import (
    show_closing,
    show_numbers,
    show_people,
    show_rules,
    show_run,
    show_systems,
    show_topics,
    show_untold,
    show_worst,
)
from keymallet.views.terminal import console, text

RULES_SHOWN = 16
_A_FEW = 3
"""So many more rules are shown rather than counted."""


def run(options: argparse.Namespace) -> int:
    """Judge, show or write the findings, and end with the code that tells how it came out."""
    inputs = open_inputs(options)
    judgement = inputs.judge(inputs.evidence(inputs.rulebook.expressions()))
    outcome = inputs.run(judgement, SEVERITIES.get(options.fail_on))
    code = _code(options.fail_on, outcome)
    if options.format == "table":
        _show(options, inputs, judgement, outcome, code)
    else:
        _write(options, judgement, outcome)
    return code


def _code(fail_on: str, outcome: Run) -> int:
    if fail_on != "never" and outcome.breaches_at_or_above(SEVERITIES[fail_on]):
        return BREACH
    return INCOMPLETE if outcome.gaps else CLEAN


def _show(
    options: argparse.Namespace, inputs: JudgingInputs, judgement: Judgement, outcome: Run, code: int
) -> None:
    with output_stream(options.output) as stream:
        out = console(stream)
        show_run(out, outcome)
        for remark in inputs.remarks:
            out.print(text(remark, "dim"))
        out.print()
        everything = len(outcome.counts)
        most = everything if options.all_rules or everything <= RULES_SHOWN + _A_FEW else RULES_SHOWN
        show_rules(out, outcome.counts, most)
        show_untold(out, untold(judgement))
        if any(count.rule.topic for count in outcome.counts):
            out.print()
            show_topics(out, outcome.counts, accounts_by_topic(judgement))
        rows, breached = worst_accounts(judgement, options.worst)
        if len(rows):
            out.print()
            out.print(text("the worst accounts", "dim"))
            names = judgement.evidence.tables["account"]["account"].gather(rows).to_list()
            show_worst(out, outcome, findings(judgement, accounts=rows), names, breached)
        beside: list[tuple[str, Callable[[Judgement], DataFrame], Callable[..., None]]] = [
            ("people of whom something is amiss", on_people, show_people),
            ("systems whose settings fall short", on_systems, show_systems),
            ("the register of exemptions", on_register, show_systems),
            ("numbers that are not as asked for", on_numbers, show_numbers),
        ]
        for title, found_of, show in beside:
            broken = found_of(judgement)
            if broken.height:
                out.print()
                out.print(text(title, "dim"))
                show(out, outcome, broken, options.worst)
        if any(map(has_gaps, inputs.snapshot.manifest.sources.values())):
            out.print()
            out.print(text("not read", "dim"))
            show_intake(out, inputs.snapshot, only_gaps=True)
        out.print()
        hints = [("keymallet judge --format csv --output findings.csv", "all findings")]
        if len(rows):
            hints.insert(0, (f"keymallet show {names[0]}", "everything on one account"))
        show_closing(out, outcome, _VERDICTS[code].format(severity=options.fail_on), hints)


_VERDICTS = {
    CLEAN: "Nothing in breach at {severity} or above.",
    BREACH: "In breach at {severity} or above.",
    INCOMPLETE: "Nothing in breach at {severity} or above, but the evidence is incomplete.",
}


_WITH_REASONS = ("json", "jsonl")
"""Formats that have room for reasons as templates and arguments."""


def _write(options: argparse.Namespace, judgement: Judgement, outcome: Run) -> None:
    structured = options.format in _WITH_REASONS
    write_rows(
        options, findings(judgement, together=True, structured=structured), run_record(outcome), "findings"
    )
    if options.output and options.format != "json":
        target = Path(options.output)
        write_file(target.with_name(target.name + ".run.json"), to_run_file(outcome))
