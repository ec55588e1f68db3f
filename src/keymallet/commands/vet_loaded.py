"""After a batch was loaded: hold it against what the target has now, and write what to load again."""

from __future__ import annotations

import argparse
import shlex
from pathlib import Path

from keymallet.commands.exit_codes import BREACH, CLEAN, INCOMPLETE
from keymallet.commands.judging_inputs import JudgingInputs
from keymallet.commands.writing import output_stream, write_file, write_rows
from keymallet.core.base.listing import how_many
from keymallet.core.vetting.batch import Batch
from keymallet.core.vetting.loaded import Arrival, Arrived, facts_held, held_against
from keymallet.core.vetting.remarks import arrivals_by_line
from keymallet.sources.batches.reading import BatchFile
from keymallet.store.earlier_names import names_in_snapshot_before
from keymallet.views.summary import show_gaps
from keymallet.views.terminal import console, moment, show_hints, text
from keymallet.views.vet_loaded import show_arrivals

_WRONG = (Arrival.MISSING, Arrival.DIFFERS, Arrival.NOT_ASKED_FOR)


def show_loaded(
    options: argparse.Namespace, inputs: JudgingInputs, file: BatchFile, batch: Batch, fixed: Path | None
) -> int:
    """Hold the batch against the newest snapshot, show it or write the rows, and what to load again."""
    snapshot = inputs.snapshot
    before = names_in_snapshot_before(snapshot, batch.target.source)
    arrived = held_against(batch, snapshot.evidence(facts_held(batch)), before, inputs.clock)
    if fixed is not None:
        remarks = arrivals_by_line(arrived, batch)
        write_file(fixed, file.with_remarks(remarks, only=remarks))
    if options.format != "table":
        numbers = {arrival.words.replace(" ", "-"): arrived.number(arrival) for arrival in Arrival}
        head = {
            "organisation": inputs.organisation,
            "batch": batch.file,
            "into": batch.target.source,
            "read-at": snapshot.manifest.read_at,
            **numbers,
            "not-held": arrived.not_held,
            "snapshot": snapshot.digest,
            "gaps": inputs.gaps,
        }
        write_rows(options, arrived.rows, head, "rows")
    else:
        _show(options, inputs, batch, arrived, looked_before=before is not None)
    if any(map(arrived.number, _WRONG)) or batch.refused:
        return BREACH
    return INCOMPLETE if inputs.gaps or arrived.number(Arrival.NOT_KNOWN) or batch.unreadable else CLEAN


def _show(
    options: argparse.Namespace, inputs: JudgingInputs, batch: Batch, arrived: Arrived, *, looked_before: bool
) -> None:
    with output_stream(options.output) as stream:
        out = console(stream)
        read_at = inputs.snapshot.manifest.read_at
        rows = how_many(len(arrived.results), "account")
        title = f"{inputs.organisation}: {rows} asked for in {batch.target.source}"
        out.print(text(f"{title}, as read {moment(read_at, inputs.clock)}", "bold"))
        show_arrivals(out, arrived, batch, len(arrived.results) if options.all else options.rows)
        if not looked_before:
            out.print(text("  no earlier snapshot: what else is new there is not known", "yellow"))
        show_gaps(out, inputs.gaps)
        out.print()
        hints = [("keymallet read", "if it was loaded after that")] if _none_arrived(arrived) else []
        if options.fixed and any(arrived.number(each) for each in (Arrival.MISSING, Arrival.DIFFERS)):
            hints.append((f"less {shlex.quote(options.fixed)}", "what to load again"))
        show_hints(out, hints)


def _none_arrived(arrived: Arrived) -> bool:
    return arrived.number(Arrival.MISSING) == len(arrived.results)
