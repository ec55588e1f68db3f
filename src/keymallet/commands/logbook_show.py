"""Show what one run of the logbook rests on, and how it came out."""

from __future__ import annotations

import argparse

from keymallet.commands.exit_codes import CLEAN
from keymallet.commands.logbooks import open_logbook, snapshot_of_run
from keymallet.commands.opening import open_estate
from keymallet.commands.runs import run_called
from keymallet.views.logbook import show_run_record
from keymallet.views.terminal import console


def run(options: argparse.Namespace) -> int:
    """Show the record of a run."""
    estate = open_estate(options.estate)
    logbook = open_logbook(estate)
    line = run_called(logbook.runs(), options.run, estate.clock)
    record = logbook.record(line)
    there = record.snapshot is not None and snapshot_of_run(estate.snapshots, record.snapshot) is not None
    show_run_record(console(), line, record, there, estate.clock)
    return CLEAN
