"""Turn findings into changes that somebody can make, tried on the evidence first."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from pathlib import Path

import polars as pl
from rich.console import Console

from keymallet.commands.exit_codes import BREACH, CLEAN, INCOMPLETE
from keymallet.commands.judging_inputs import JudgingInputs, open_inputs
from keymallet.commands.relinking import relinked
from keymallet.commands.unrecorded import added_unrecorded
from keymallet.commands.writing import write_file
from keymallet.core.base.listing import how_many
from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.problems import KeymalletError, fail
from keymallet.core.base.source_names import is_of
from keymallet.core.explaining.findings import alike
from keymallet.core.facts.declaration import ACCOUNT
from keymallet.core.facts.evidence import ACCOUNT_ROW, Evidence
from keymallet.core.facts.lookup import find_accounts
from keymallet.core.history.columns import ANSWERER, FINDING
from keymallet.core.judging.judge import Judgement
from keymallet.core.judging.verdicts import Verdict
from keymallet.core.mending.changes import ROW, acts_at, laid_over
from keymallet.core.mending.forms import with_forms
from keymallet.core.mending.proposals import described, numbered, rows_of
from keymallet.core.mending.trial import Trial, tried, without_idle
from keymallet.outputs.formats import FORMATS
from keymallet.outputs.values import OutputRows
from keymallet.proposals.readme import readme
from keymallet.proposals.worksheet import COLUMNS, as_changes
from keymallet.proposals.writing import Written, written_out
from keymallet.views.mend import show_mending
from keymallet.views.summary import show_gaps
from keymallet.views.terminal import console, show_hints

README = "README.md"
MOST_FILES = 5
"""How many of the written files are named on the terminal; the README names all."""
_TOLD = ("account", "subject", "mend", "change")


def run(options: argparse.Namespace) -> int:
    """Choose findings, propose, try, show and write. Raises KeymalletError if nothing is chosen."""
    _check(options)
    inputs = open_inputs(options)
    evidence = relinked(inputs)
    judgement = inputs.judge(evidence)
    acts = acts_at(inputs.at)
    everything = alike(judgement, together=True)
    # Only what is chosen is put into words.
    places = rows_of(judgement, everything, acts)
    chosen = _chosen(options, inputs, judgement, places.hstack(added_unrecorded(inputs, judgement)))
    chosen = chosen.hstack(described(judgement, everything, chosen["place"]).select(_TOLD))
    _check_age(options, inputs, evidence, chosen)
    proposed = numbered(with_forms(chosen, evidence, _readers(inputs, evidence)))

    def judged_with(changes: pl.DataFrame) -> Judgement:
        return inputs.judge(relinked(inputs, laid_over(evidence, changes, acts)))

    changes = proposed.filter(pl.col(ROW).is_not_null())
    trial = tried(changes, judgement, judged_with, even_if_it_breaks=options.even_if_it_breaks)
    proposed = without_idle(proposed, trial)
    written = as_changes(proposed, trial, acts, evidence, inputs.clock)
    files = []
    if options.into:
        files = _write(Path(options.into), inputs, evidence, written, proposed, trial)
    out = console()
    show_mending(out, inputs.organisation, proposed, written, trial, options.rows)
    show_gaps(out, inputs.gaps)
    _show_hints(options, out, files)
    by_people = proposed.filter(pl.col(ROW).is_null()).height
    if trial.aside.height or trial.broken.height or by_people:
        return BREACH
    return INCOMPLETE if inputs.gaps else CLEAN


def _check_age(
    options: argparse.Namespace, inputs: JudgingInputs, evidence: Evidence, chosen: pl.DataFrame
) -> None:
    """Raises KeymalletError where what is to be changed was read too long ago."""
    old = {gap.about: gap for gap in inputs.found_gaps if gap.gap == "too-old"}
    rows = chosen[ACCOUNT_ROW].drop_nulls().unique()
    sources = evidence.tables[ACCOUNT.name]["source"].cast(pl.String).gather(rows).unique(maintain_order=True)
    late = [gap for source in sources for name, gap in old.items() if is_of(source, name)]
    if late and not options.even_if_old:
        hint = "keymallet read, then again; or --even-if-old"
        raise fail(f"the evidence is too old to change anything by it: {late[0].text}", hint=hint)


def _readers(inputs: JudgingInputs, evidence: Evidence) -> dict[str, str]:
    """How each source is read, by the estate file."""
    declared = inputs.estate.sources if inputs.estate else ()
    return {
        source: each.section.read
        for each in declared
        for source in evidence.supply
        if is_of(source, each.name)
    }


def _check(options: argparse.Namespace) -> None:
    if not (options.finding or options.rule or options.account or options.answerer or options.all):
        hint = "--finding ID, --rule RULE, --account ACCOUNT, --answerer WHO, or --all"
        raise fail("which findings are to be mended?", hint=hint)
    if not (options.into or options.preview):
        raise fail(
            "where are the changes to be written?", hint="--into FOLDER, or --preview to see them first"
        )
    if options.into and options.preview:
        raise fail("--preview writes nothing", hint="leave --into away, or --preview")
    into = Path(options.into) if options.into else None
    if into is not None and into.exists() and not into.is_dir():
        raise fail("this is a file, not a folder", file=options.into, hint="name a new folder")
    if into is not None and into.exists() and any(into.iterdir()):
        raise fail("something is in this folder already", file=options.into, hint="name a new one")


def _chosen(
    options: argparse.Namespace, inputs: JudgingInputs, judgement: Judgement, findings: pl.DataFrame
) -> pl.DataFrame:
    """The breaches that the options name. Raises KeymalletError where one of them names nothing."""
    breaches = findings.filter(pl.col("verdict") == int(Verdict.BREACH))
    chosen = breaches
    for wanted in options.rule:
        ids = [demand.id for demand in inputs.rulebook.demands]
        if wanted not in ids:
            raise fail(f'the rulebook has no rule "{wanted}"', hint=did_you_mean(wanted, ids))
    if options.rule:
        chosen = chosen.filter(pl.col("rule").is_in(options.rule))
    if options.account:
        rows = pl.Series(find_accounts(judgement.evidence, options.account), dtype=pl.UInt32)
        chosen = chosen.filter(pl.col(ACCOUNT_ROW).is_in(rows.implode()))
    if options.answerer:
        known = breaches[ANSWERER].drop_nulls().unique().to_list()
        if options.answerer not in known:
            hint = did_you_mean(options.answerer, known) or "keymallet findings --by answerer lists them"
            raise fail(f'nobody called "{options.answerer}" answers for a breach', hint=hint)
        chosen = chosen.filter(pl.col(ANSWERER) == options.answerer)
    if options.finding:
        begins = pl.any_horizontal(pl.col(FINDING).str.starts_with(each) for each in options.finding)
        for each in options.finding:
            if not breaches[FINDING].str.starts_with(each).any():
                hint = f"it may be mended already: keymallet findings {each} tells its life"
                raise fail(f'no finding in breach has the id "{each}"', hint=hint)
        chosen = chosen.filter(begins)
    if not chosen.height:
        raise fail(
            "no finding that is in breach is among these", hint="keymallet findings lists what is open"
        )
    return chosen


def _write(
    folder: Path,
    inputs: JudgingInputs,
    evidence: Evidence,
    written: pl.DataFrame,
    proposed: pl.DataFrame,
    trial: Trial,
) -> list[Written]:
    """A worksheet for each system, its changes in its own form, and the order of it all."""
    folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    files = []
    for (source,), mine in written.partition_by("source", as_dict=True, maintain_order=True).items():
        stem = str(source or "people").replace("/", "-")
        heading = (
            f"{inputs.organisation}, {source}: changes proposed on the evidence of"
            f" {inputs.at.astimezone(inputs.clock):%Y-%m-%d %H:%M}",
            f"Read {README} first: what goes in which order, and what was set aside.",
        )
        own = written_out(stem, str(source), mine, evidence, heading)
        rows = OutputRows([mine.select(COLUMNS)], {}, "changes", spreadsheet=True)
        sheet = b"".join(FORMATS["csv"].write(rows))
        files += [*own, Written(f"{stem}.csv", mine.height, mine["proposal"][0], "", sheet)]
    text = readme(inputs.organisation, inputs.at, inputs.clock, files, written, proposed, trial)
    put: list[Path] = []
    try:
        for name, data in (*((each.name, each.data) for each in files), (README, text.encode())):
            write_file(folder / name, data)
            put.append(folder / name)
    except KeymalletError:
        # Half of the changes, without the page that says what goes first, is worse than none.
        for path in put:
            path.unlink()
        folder.rmdir()
        raise
    return files


def _show_hints(options: argparse.Namespace, out: Console, files: Sequence[Written]) -> None:
    hints = [
        (each.how, f"{how_many(each.number, 'change')}, from {each.first} on")
        for each in sorted(files, key=lambda each: each.first)
        if each.how
    ][:MOST_FILES]
    if options.into:
        hints.insert(0, (f"less {options.into}/{README}", "what goes in which order, and what was set aside"))
        after = f"keymallet read && keymallet judge && keymallet changes --proposals {options.into}"
        hints.append((after, "afterwards: which of them have worked"))
    show_hints(out, hints)
