"""Judge every account by the rulebook: who falls short, why, and what could not be told.

Exit code: 0 nothing in breach at or above --fail-on, 1 something is, 2 the request could not be
carried out, 3 nothing is, but the evidence is incomplete.
"""

from __future__ import annotations

import argparse
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from keymallet.commands.common import (
    JudgingInputs,
    add_judging,
    add_rows_format,
    number_of,
    open_case,
    output_stream,
    write_file,
    write_rows,
)
from keymallet.commands.main import BREACH, CLEAN, INCOMPLETE

if TYPE_CHECKING:
    from polars import DataFrame

    from keymallet.core.judging.judge import Judgement
    from keymallet.core.judging.run import Run

EXAMPLES = [
    ("keymallet judge", "judge the newest snapshot and show the summary"),
    ("keymallet judge --format csv --output findings.csv", "every finding, for a spreadsheet or a program"),
    (
        "keymallet judge --at 2026-12-24 --fail-on critical",
        "as it will stand on that day, if nothing changes",
    ),
]
WORST = 8
RULES_SHOWN = 16
_A_FEW = 3
"""So many more rules are shown rather than counted."""
_FAIL_ON = ("critical", "high", "medium", "low", "never")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    add_judging(parser)
    add_rows_format(parser)
    parser.add_argument(
        "--spreadsheet",
        action="store_true",
        help="with --format csv: keep texts like =1+1 from being taken for formulas",
    )
    parser.add_argument(
        "--fail-on",
        choices=_FAIL_ON,
        default="high",
        help="the least severity that ends with code 1 (default: high)",
    )
    parser.add_argument(
        "--worst",
        type=number_of("accounts"),
        default=WORST,
        metavar="N",
        help=f"accounts shown (default: {WORST})",
    )
    parser.add_argument(
        "--all-rules", action="store_true", help="a line for every rule, however many there are"
    )


def run(options: argparse.Namespace) -> int:
    """Judge, show or write the findings, and end with the code that tells how it came out."""
    case = open_case(options)
    judgement = case.judge(case.evidence(case.rulebook.expressions()))
    outcome = case.run(judgement)
    code = _code(options.fail_on, outcome)
    if options.format == "table":
        _show(options, case, judgement, outcome, code)
    else:
        _write(options, judgement, outcome)
    return code


def _code(fail_on: str, outcome: Run) -> int:
    from keymallet.core.rulebook.model import SEVERITIES

    if fail_on != "never" and outcome.breaches_at_or_above(SEVERITIES[fail_on]):
        return BREACH
    return INCOMPLETE if outcome.gaps else CLEAN


def _show(
    options: argparse.Namespace, case: JudgingInputs, judgement: Judgement, outcome: Run, code: int
) -> None:
    from keymallet.core.explaining.findings import (
        accounts_by_topic,
        findings,
        on_numbers,
        on_people,
        on_register,
        on_systems,
        worst_accounts,
    )
    from keymallet.views.intake import has_gaps, show_intake
    from keymallet.views.summary import (
        show_closing,
        show_numbers,
        show_people,
        show_rules,
        show_run,
        show_systems,
        show_topics,
        show_worst,
    )
    from keymallet.views.terminal import console, text

    with output_stream(options.output) as stream:
        out = console(stream)
        show_run(out, outcome)
        out.print()
        everything = len(outcome.counts)
        most = everything if options.all_rules or everything <= RULES_SHOWN + _A_FEW else RULES_SHOWN
        show_rules(out, outcome.counts, most)
        if any(each.rule.topic for each in outcome.counts):
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
            found = found_of(judgement)
            if found.height:
                out.print()
                out.print(text(title, "dim"))
                show(out, outcome, found, options.worst)
        if has_gaps(case.snapshot):
            out.print()
            out.print(text("not read", "dim"))
            show_intake(out, case.snapshot, only_gaps=True)
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


def _write(options: argparse.Namespace, judgement: Judgement, outcome: Run) -> None:
    from keymallet.core.explaining.findings import findings
    from keymallet.outputs.run_record import run_record, to_run_file

    write_rows(options, findings(judgement), run_record(outcome), "findings")
    if options.output and options.format != "json":
        target = Path(options.output)
        write_file(target.with_name(target.name + ".run.json"), to_run_file(outcome))
