"""List the runs of the logbook."""

from __future__ import annotations

import argparse

from keymallet.commands.exit_codes import CLEAN
from keymallet.commands.logbooks import open_logbook
from keymallet.commands.opening import open_estate
from keymallet.views.logbook import show_runs
from keymallet.views.terminal import console, show_hints


def run(options: argparse.Namespace) -> int:
    """List the runs, the last first."""
    estate = open_estate(options.estate)
    out = console()
    show_runs(out, open_logbook(estate).runs(), options.rows or None, estate.clock)
    out.print()
    show_hints(
        out,
        [
            ("keymallet logbook show RUN", "what one run rests on"),
            ("keymallet changes --from RUN", "what changed since"),
        ],
    )
    return CLEAN
