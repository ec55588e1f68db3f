"""Judge every account by the rulebook: who falls short, why, and for what data is missing."""

from __future__ import annotations

import argparse
from collections.abc import Callable, Iterable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from polars import DataFrame
from rich.console import Console
from rich.padding import Padding

from keymallet.commands.exit_codes import BREACH, CLEAN, INCOMPLETE
from keymallet.commands.judging_inputs import JudgingInputs, history_facts, open_inputs
from keymallet.commands.trials import failure_recorded, is_trial
from keymallet.commands.writing import output_stream, write_encoded, write_file, write_rows
from keymallet.core.base.listing import how_many
from keymallet.core.base.problems import KeymalletError, fail
from keymallet.core.explaining.findings import findings
from keymallet.core.explaining.summary import Summary, summary
from keymallet.core.explaining.untold import Untold, untold
from keymallet.core.judging.run import Run
from keymallet.core.rulebook.model import SEVERITIES
from keymallet.outputs.formats import FORMATS
from keymallet.outputs.run_record import run_record, to_run_file
from keymallet.outputs.values import parts_of
from keymallet.sources.estate_runs import NO_LOGBOOK
from keymallet.views.history import show_since_last
from keymallet.views.intake import has_gaps, show_intake
from keymallet.views.summary import (
    show_digests,
    show_evidence_gaps,
    show_gaps,
    show_numbers,
    show_outcome,
    show_people,
    show_rules,
    show_run,
    show_systems,
    show_topics,
    show_untold,
    show_worst,
    show_worst_in_short,
)
from keymallet.views.terminal import console, show_hints, text

if TYPE_CHECKING:
    from keymallet.commands.recording import Recorded

RULES_IN_SHORT = 8
WORST_IN_SHORT, WORST = 5, 8
"""How many of the worst accounts are shown, where nobody says."""


class _Judged(NamedTuple):
    """A judging to be shown: what it comes to, and what no source tells of."""

    outcome: Run
    summary: Summary
    lacking: list[Untold]

    @property
    def names(self) -> list[str]:
        """The worst accounts."""
        return self.summary.worst["account"].to_list()

    @property
    def not_judged(self) -> set[str]:
        """The rules that could not be judged of anybody, for want of what no source reports."""
        return {rule for each in self.lacking for rule in each.rules}


def run(options: argparse.Namespace) -> int:
    """Judge, show or write the findings, and end with the code that tells how it came out."""
    if options.sealed:
        from keymallet.commands.judge_sealed import run_sealed

        return run_sealed(options)
    with failure_recorded(options.estate, trial=is_trial(options)):
        return _judge(options)


def _judge(options: argparse.Namespace) -> int:
    inputs = open_inputs(options)
    recorded = _wants_record(options, inputs)
    if (
        inputs.snapshot.shards > 1
        and not recorded
        and not (_gives_rows(options) and _has_earlier_run(inputs))
    ):
        return _judge_in_shards(options, inputs)
    in_table = not _gives_rows(options)
    with_history = recorded or not in_table
    asked = inputs.rulebook.expressions()
    judgement = inputs.judge(inputs.evidence_with_history() if with_history else inputs.evidence(asked))
    outcome = inputs.run(judgement, SEVERITIES.get(options.fail_on))
    code = _code(options.fail_on, outcome)
    structured = _is_structured(options)
    described = None
    if recorded and not in_table:
        described = findings(judgement, together=True, structured=structured)
    history: Recorded | None = None
    failure = None
    if recorded:
        from keymallet.commands.recording import record_run

        try:
            history = record_run(inputs, judgement, outcome, options.fail_on, code, described)
        except KeymalletError as error:
            failure = error
    if in_table:
        told = summary(judgement, _most(options), in_full=options.all)
        _show(options, inputs, _Judged(outcome, told, untold(judgement)), code, history)
    elif history is not None and described is not None:
        _write(options, parts_of(described.hstack(history.added(described.height))), outcome)
    else:
        from keymallet.commands.unrecorded import told_unrecorded

        _write(options, told_unrecorded(inputs, judgement, structured), outcome)
    if failure is not None:
        raise failure
    return code


def _gives_rows(options: argparse.Namespace) -> bool:
    return bool(options.format != "table")


def _has_earlier_run(inputs: JudgingInputs) -> bool:
    """Whether findings are told with what the logbook knows of them."""
    from keymallet.commands.unrecorded import has_earlier_run

    return has_earlier_run(inputs)


def _judge_in_shards(options: argparse.Namespace, inputs: JudgingInputs) -> int:
    """Judge shard after shard; nothing of all accounts is held at once."""
    from keymallet.commands.shards import shards_of
    from keymallet.sharded.judging import judged_in_shards, told_in_shards
    from keymallet.sharded.tasks import Wording

    fail_on = SEVERITIES.get(options.fail_on)
    with shards_of(options, inputs) as shards:
        if not _gives_rows(options):
            among_all, told = judged_in_shards(shards, worst=_most(options), in_full=options.all)
            outcome = inputs.run(among_all, fail_on)
            code = _code(options.fail_on, outcome)
            _show(options, inputs, _Judged(outcome, told, untold(among_all)), code, None)
            return code
        wording = Wording(
            history_facts(inputs.rulebook),
            inputs.estate.answers if inputs.estate else (),
            None,
            _is_structured(options),
            partial(FORMATS[options.format].encode, spreadsheet=options.spreadsheet),
        )
        found = told_in_shards(shards, wording)
        outcome = inputs.run(found.among_all, fail_on)
        write_encoded(options, found.columns, found.encoded, run_record(outcome), "findings")
        _write_run(options, outcome)
    return _code(options.fail_on, outcome)


def _wants_record(options: argparse.Namespace, inputs: JudgingInputs) -> bool:
    """Whether this judging is written into the logbook. Raises KeymalletError if it is to be and cannot."""
    estate = inputs.estate
    if options.record and estate is None:
        raise fail("without an estate file there is no logbook", hint="name one with --estate")
    if options.record and estate is not None and estate.logbook is None:
        raise fail("this estate has no logbook", file=str(estate.file), hint=NO_LOGBOOK)
    return estate is not None and estate.logbook is not None and not is_trial(options)


def _code(fail_on: str, outcome: Run) -> int:
    if fail_on != "never" and outcome.breaches_at_or_above(SEVERITIES[fail_on]):
        return BREACH
    return INCOMPLETE if outcome.gaps else CLEAN


def _show(
    options: argparse.Namespace,
    inputs: JudgingInputs,
    judged: _Judged,
    code: int,
    history: Recorded | None,
) -> None:
    outcome = judged.outcome
    with output_stream(options.output) as stream:
        out = console(stream)
        show_run(out, outcome)
        for remark in inputs.remarks:
            out.print(text(remark, "dim"))
        show_outcome(out, outcome, _VERDICTS[code].format(severity=options.fail_on), judged.lacking)
        out.print()
        if options.all:
            _show_all(out, inputs, judged, history)
        else:
            _show_in_short(out, inputs, judged)
        if history is not None:
            show_since_last(out, history.run, history.before, history.failed, inputs.clock)
        hints = [("keymallet judge --format csv --output findings.csv", "all findings")]
        if not options.all:
            hints.insert(0, ("keymallet judge --all", "all of that, with every reason"))
        if judged.names:
            hints.insert(0, (f"keymallet show {judged.names[0]}", "everything on one account"))
        show_hints(out, hints)


def _most(options: argparse.Namespace) -> int:
    if options.worst is not None:
        return int(options.worst)
    return WORST if options.all else WORST_IN_SHORT


def _show_in_short(out: Console, inputs: JudgingInputs, judged: _Judged) -> None:
    """The first screen: how it came out, where, and the worst accounts; what is left out is named."""
    outcome, told = judged.outcome, judged.summary
    topics = any(count.rule.topic for count in outcome.counts)
    if topics:
        show_topics(out, outcome.counts, told.by_topic, judged.not_judged)
    else:
        show_rules(out, outcome.counts, RULES_IN_SHORT)
    if judged.names:
        out.print()
        out.print(text("the worst accounts", "dim"))
        show_worst_in_short(out, told.worst, judged.names, told.breached)
    left_out = []
    for number, (noun, title, _) in zip(told.besides, BESIDES, strict=True):
        left_out += [f"{title} ({how_many(number, *noun)})"] if number else []
    left_out += [how_many(len(outcome.counts), "rule")] if topics else []
    unread = sum(map(has_gaps, inputs.snapshot.manifest.sources.values()))
    left_out += [f"{how_many(unread, 'source')} not read in full"] if unread else []
    left_out += [how_many(len(outcome.accepted), "accepted gap")] if outcome.accepted else []
    if left_out:
        out.print(Padding(text(f"not shown here: {', '.join(left_out)}", "dim"), (1, 0, 0, 0), expand=False))
    show_gaps(out, outcome.gaps)


BESIDES: list[tuple[tuple[str, str], str, Callable[..., None]]] = [
    (("person", "people"), "people on the roster", show_people),
    (("system", "systems"), "systems whose settings fall short", show_systems),
    (("entry", "entries"), "the register of exemptions", show_systems),
    (("count", "counts"), "counts outside their limits", show_numbers),
]
"""Findings that are no account's: what they are counted in, their heading; in the order of `Besides`."""


def _show_all(
    out: Console,
    inputs: JudgingInputs,
    judged: _Judged,
    history: Recorded | None,
) -> None:
    """Everything: rules, topics, accounts and all that is no account's, and what was not read."""
    outcome, told, not_judged = judged.outcome, judged.summary, judged.not_judged
    show_digests(out, outcome)
    out.print()
    counts = [count for count in outcome.counts if count.rule.id not in not_judged]
    show_rules(out, counts, len(counts))
    show_untold(out, judged.lacking)
    if any(count.rule.topic for count in outcome.counts):
        out.print()
        show_topics(out, outcome.counts, told.by_topic, not_judged)
    if judged.names:
        out.print()
        out.print(text("the worst accounts", "dim"))
        show_worst(out, outcome, _with_lives(told.described, history), judged.names, told.breached)
    for (_, title, show), found in zip(BESIDES, told.on, strict=True):
        broken = _with_lives(found, history)
        if broken.height:
            out.print()
            out.print(text(title, "dim"))
            show(out, outcome, broken, len(judged.names) or WORST)
    if any(map(has_gaps, inputs.snapshot.manifest.sources.values())):
        out.print()
        out.print(text("not read", "dim"))
        show_intake(out, inputs.snapshot, only_gaps=True)
    out.print()
    show_evidence_gaps(out, outcome)


def _with_lives(found: DataFrame, history: Recorded | None) -> DataFrame:
    """Findings with what the logbook knows of each, where this judging was written into it."""
    return found if history is None else history.with_lives(found)


_VERDICTS = {
    CLEAN: "Nothing in breach at {severity} or above.",
    BREACH: "In breach at {severity} or above.",
    INCOMPLETE: "Nothing in breach at {severity} or above, but the evidence is incomplete.",
}


_WITH_REASONS = ("json", "jsonl")
"""Formats that have room for reasons as templates and arguments."""


def _is_structured(options: argparse.Namespace) -> bool:
    return options.format in _WITH_REASONS


def _write(options: argparse.Namespace, rows: Iterable[DataFrame], outcome: Run) -> None:
    write_rows(options, rows, run_record(outcome), "findings")
    _write_run(options, outcome)


def _write_run(options: argparse.Namespace, outcome: Run) -> None:
    """The run's record in a file beside rows that have no room for it."""
    if options.output and options.format != "json":
        target = Path(options.output)
        write_file(target.with_name(target.name + ".run.json"), to_run_file(outcome))
