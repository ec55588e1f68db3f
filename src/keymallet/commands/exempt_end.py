"""End an exemption of the register, now or on a day."""

from __future__ import annotations

import argparse

from keymallet.commands.exit_codes import CLEAN
from keymallet.commands.register_edit import Opened, open_to_edit, said_day
from keymallet.core.base.problems import fail
from keymallet.core.judging.register_edit import ended


def run(options: argparse.Namespace) -> int:
    """Move its end. Raises KeymalletError if it is over already, or would be over before it began."""
    with open_to_edit(options) as opened:
        return _end(options, opened)


def _end(options: argparse.Namespace, opened: Opened) -> int:
    entry, clock = opened.entry(options.entry), opened.inputs.clock
    end = opened.day(options.on) or opened.inputs.at.replace(microsecond=0)
    if entry.end is not None and entry.end <= end:
        raise fail(f"{entry.id} ends before that: on {said_day(entry.end, clock)}")
    if entry.start is not None and end <= entry.start:
        raise fail(
            f"{entry.id} begins only on {said_day(entry.start, clock)}", hint="delete it from the file"
        )
    opened.save(ended(opened.text, entry, clock, end))
    print(f"{entry.id} ends on {said_day(end, clock)}: what it covered counts as a breach from then on")
    return CLEAN
