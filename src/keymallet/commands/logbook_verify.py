"""Check that every run of the logbook is as it was written."""

from __future__ import annotations

import argparse
from pathlib import Path

from keymallet.commands.exit_codes import BREACH, CLEAN
from keymallet.commands.logbooks import open_logbook
from keymallet.commands.opening import open_estate
from keymallet.store.logbook.signing import read_public_key
from keymallet.store.logbook.verifying import verify
from keymallet.views.logbook import show_verified
from keymallet.views.terminal import console


def run(options: argparse.Namespace) -> int:
    """Verify the chain; code 1 if anything in it is not as it was written."""
    logbook = open_logbook(open_estate(options.estate))
    key = read_public_key(Path(options.key)) if options.key else None
    found = list(verify(logbook, options.head or "", key))
    show_verified(console(), logbook.runs(), found, signed=key is not None)
    return BREACH if found else CLEAN
