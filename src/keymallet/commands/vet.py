"""Look through a batch of accounts before it is loaded: what is ready, what to fix first, and why."""

from __future__ import annotations

import argparse
import shlex
from dataclasses import replace
from pathlib import Path

import polars as pl

from keymallet.commands.exit_codes import BREACH, CLEAN, INCOMPLETE
from keymallet.commands.judging_inputs import JudgingInputs, open_inputs
from keymallet.commands.vet_loaded import show_loaded
from keymallet.commands.writing import output_stream, write_file, write_rows
from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.problems import fail
from keymallet.core.base.source_names import is_of
from keymallet.core.linking.linked import LinkingRules
from keymallet.core.rulebook.model import SEVERITIES
from keymallet.core.vetting.batch import Batch
from keymallet.core.vetting.evidence import planned_evidence
from keymallet.core.vetting.existing import Existing, facts_needed
from keymallet.core.vetting.remarks import remarks_by_line
from keymallet.core.vetting.vetting import Result, Vetted, vet
from keymallet.sources.batches.reading import open_batch
from keymallet.sources.sections import SourceSection
from keymallet.store.earlier_names import earlier_names
from keymallet.views.summary import show_gaps
from keymallet.views.terminal import console, show_hints
from keymallet.views.vet import show_vetted


def run(options: argparse.Namespace) -> int:
    """Read the batch, judge it, show it; write the rows or the file with remarks if asked to."""
    fixed = Path(options.fixed) if options.fixed else None
    if fixed is not None and fixed.exists():
        hint = "name a new file: somebody may be correcting this one"
        raise fail("this file exists already", file=str(fixed), hint=hint)
    inputs = open_inputs(options, of_planned=True)
    file = open_batch(options.file, options.map, inputs.clock, _beside(options.beside))
    source = _target(options, inputs, file.target.source)
    batch = file.read(_section(inputs, source), inputs.clock, inputs.at)
    batch.target = replace(file.target, source=source)
    if options.loaded:
        return show_loaded(options, inputs, file, batch, fixed)
    vetted = _vetted(inputs, batch)
    if fixed is not None:
        write_file(fixed, file.with_remarks(remarks_by_line(vetted)))
    if options.format != "table":
        write_rows(options, _rows(vetted), _head(inputs, vetted), "rows")
    else:
        _show(options, inputs, vetted)
    return _code(options, inputs, vetted)


def _beside(written: list[str]) -> dict[str, str]:
    """The files of --with, by table."""
    found = {}
    for each in written:
        table, equals, file = each.partition("=")
        if not (table and equals and file):
            raise fail(f'--with "{each}" is no TABLE=FILE', hint="like --with grant=rights.csv")
        if table in found:
            raise fail(f'--with names "{table}" twice', hint="put its rows in one file")
        found[table] = file
    return found


def _target(options: argparse.Namespace, inputs: JudgingInputs, told: str) -> str:
    """The source that the batch is for. Raises KeymalletError where that is none of the snapshot's."""
    manifest = inputs.snapshot.manifest
    known = [name for name, record in manifest.sources.items() if "name" in record.supply.get("account", {})]
    name = options.into or told
    if not name and len(known) == 1:
        (name,) = known
    if not name:
        hint = f'--into SOURCE, or [target] source = "…" in the map; there are: {", ".join(known)}'
        raise fail(
            "which source of the estate is the batch for?", file=options.map or options.file, hint=hint
        )
    if name not in known:
        hint = did_you_mean(name, known) or f"there are: {', '.join(known)}"
        raise fail(
            f'the snapshot has no accounts of a source "{name}"', file=options.map or options.file, hint=hint
        )
    return name


def _section(inputs: JudgingInputs, source: str) -> SourceSection | None:
    """How the estate reads the source; None where there is no estate file, or it has none of this name."""
    sources = inputs.estate.sources if inputs.estate else ()
    return next((each.section for each in sources if is_of(source, each.name)), None)


def _vetted(inputs: JudgingInputs, batch: Batch) -> Vetted:
    snapshot, source = inputs.snapshot, batch.target.source
    evidence = snapshot.evidence(facts_needed(batch.accounts.columns))
    unfinished = {
        name: [*record.incomplete, *([record.failed] if record.failed else [])]
        for name, record in snapshot.manifest.sources.items()
    }
    before = earlier_names(snapshot, source)
    existing = Existing(evidence, before, {name: why for name, why in unfinished.items() if why})
    rules = inputs.estate.linking if inputs.estate else LinkingRules(inputs.clock)
    planned = planned_evidence(batch, existing, rules, inputs.organisation, inputs.at)
    return vet(batch, planned, inputs.rulebook, inputs.register, inputs.clock, inputs.at)


_SAID = (
    *("cells", "rule", "title", "severity", "verdict", "because", "missing", "mend", "change", "advice"),
    "cite",
)
"""What is told of each finding, beside its row."""


def _rows(vetted: Vetted) -> pl.DataFrame:
    """A line for each thing that is wrong or cannot be told, and for each row that is ready."""
    words = {int(result): result.words for result in Result}
    rows = pl.DataFrame(
        {
            "line": pl.Series(vetted.batch.lines, dtype=pl.Int64),
            "name": vetted.batch.written,
            "result": vetted.results.cast(pl.Int64).replace_strict(words, return_dtype=pl.String),
        }
    ).with_row_index("row")
    found = vetted.found.select(_SAID).with_columns(vetted.found_rows.cast(pl.UInt32).alias("row"))
    joined = rows.join(found, on="row", how="left", maintain_order="left").drop("row")
    unread = pl.DataFrame(
        {
            "line": pl.Series([each.line for each in vetted.refused], dtype=pl.Int64),
            "result": pl.Series([Result.FIX_FIRST.words for _ in vetted.refused], dtype=pl.String),
            "because": pl.Series([each.reason for each in vetted.refused], dtype=pl.String),
        }
    )
    return pl.concat([joined, unread], how="diagonal_relaxed").sort("line", maintain_order=True)


def _head(inputs: JudgingInputs, vetted: Vetted) -> dict[str, object]:
    return {
        "organisation": inputs.organisation,
        "batch": vetted.batch.file,
        "into": vetted.batch.target.source,
        "at": inputs.at,
        "ready": vetted.number(Result.READY),
        "fix-first": vetted.number(Result.FIX_FIRST),
        "cannot-tell": vetted.number(Result.CANNOT_TELL),
        "not-judged": [{"rule": rule, "missing": missing} for rule, missing in vetted.open.items()],
        "rests-on": inputs.digests,
        "gaps": inputs.gaps,
    }


def _show(options: argparse.Namespace, inputs: JudgingInputs, vetted: Vetted) -> None:
    with output_stream(options.output) as stream:
        out = console(stream)
        most = vetted.rows if options.all else options.rows
        show_vetted(out, vetted, inputs.organisation, inputs.clock, most)
        words = ["keymallet", "vet", options.file, *(["--map", options.map] if options.map else [])]
        words += ["--into", options.into] if options.into else []
        words += [word for each in options.beside for word in ("--with", each)]
        show_gaps(out, inputs.gaps)
        hints = []
        if options.fixed:
            hints.append(
                (f"less {shlex.quote(options.fixed)}", "the batch with remarks: correct it, and look again")
            )
        elif vetted.number(Result.FIX_FIRST) or vetted.number(Result.CANNOT_TELL):
            target = Path(options.file)
            name = shlex.quote(f"{target.stem}-remarks{target.suffix}")
            hints.append((f"{shlex.join(words)} --fixed {name}", "the same file with a column of remarks"))
        show_hints(out, hints)


def _code(options: argparse.Namespace, inputs: JudgingInputs, vetted: Vetted) -> int:
    if options.fail_on != "never" and vetted.worst(SEVERITIES[options.fail_on]):
        return BREACH
    # What rules on accounts that exist rest on, a batch need not tell: how its twin will differ, say.
    if not (vetted.has_rules_on_planned and vetted.rows):
        return INCOMPLETE
    undecided = vetted.number(Result.CANNOT_TELL) or vetted.open_on_planned or vetted.batch.unreadable
    return INCOMPLETE if undecided or inputs.gaps or vetted.refused else CLEAN
