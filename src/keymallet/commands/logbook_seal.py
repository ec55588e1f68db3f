"""Pack everything one run rests on into one file, that can be judged again anywhere."""

from __future__ import annotations

import argparse
from pathlib import Path
from tempfile import TemporaryDirectory

from keymallet.commands.exit_codes import CLEAN
from keymallet.commands.logbooks import open_logbook, snapshot_of_run
from keymallet.commands.opening import open_estate
from keymallet.commands.pseudonymised import masked_run
from keymallet.commands.runs import judged_run, run_called
from keymallet.core.base.listing import how_many
from keymallet.core.base.problems import fail
from keymallet.store.logbook.sealing import seal, seal_masked
from keymallet.views.terminal import console, show_hints, text


def run(options: argparse.Namespace) -> int:
    """Seal a run. Raises KeymalletError if its snapshot is no longer there, or something was altered."""
    estate = open_estate(options.estate)
    logbook = open_logbook(estate)
    line = judged_run(run_called(logbook.runs(), options.run, estate.clock))
    wanted = logbook.record(line).snapshot
    snapshot = snapshot_of_run(estate.snapshots, wanted) if wanted else None
    if snapshot is None:
        folder = wanted.folder if wanted else ""
        raise fail(
            f"run {line.number} cannot be sealed: the snapshot it judged, {folder}, is no longer there",
            file=str(estate.snapshots),
            hint="put back a copy of its folder; its name does not matter",
        )
    target = Path(options.output)
    if target.exists():
        raise fail(
            "this file exists already", file=options.output, hint="name a new one: a seal is for keeps"
        )
    differing: list[str] = []
    if options.pseudonyms:
        with TemporaryDirectory(prefix="keymallet-sealed-") as made:
            masked = masked_run(logbook, line, snapshot, Path(made))
            differing = masked.differing
            seal_masked(line, masked.record, masked.texts, masked.findings, masked.snapshot, target)
    else:
        seal(logbook, line, snapshot, target)
    out = console()
    size = f"{target.stat().st_size / 1_000_000:,.1f} MB"
    out.print(text(f"run {line.number} sealed: {options.output}, {size}"))
    if options.pseudonyms:
        out.print(
            text("names, mail addresses and shown names are tokens in it; units and sources are not", "dim")
        )
        if differing:
            said = f"{how_many(len(differing), 'rule')} read names, and come to other numbers with tokens"
            out.print(text(f"{said}: {', '.join(differing)}", "yellow"))
    else:
        out.print(text("it holds the accounts as they were read: keep it as safe as the snapshots", "dim"))
    show_hints(out, [(f"keymallet judge --sealed {options.output}", "judge it again, on any machine")])
    return CLEAN
