"""Remove the findings of old runs, and files that no run names; the chain stays whole."""

from __future__ import annotations

import argparse
from datetime import UTC, datetime

from keymallet.commands.exit_codes import CLEAN
from keymallet.commands.logbooks import open_logbook
from keymallet.commands.opening import open_estate
from keymallet.core.base.listing import how_many
from keymallet.core.base.problems import fail
from keymallet.core.language.literals import parse_span
from keymallet.store.logbook.pruning import prune
from keymallet.store.logbook.records import RunLine
from keymallet.views.terminal import console, text


def run(options: argparse.Namespace) -> int:
    """Prune, or say what would go."""
    logbook = open_logbook(open_estate(options.estate), make=True)
    pruned = prune(logbook, _old(logbook.runs(), options.keep), dry_run=options.dry_run)
    verb = "would go" if options.dry_run else "removed"
    out = console()
    size = f"{pruned.bytes / 1_000_000:,.1f} MB"
    out.print(text(f"{verb}: the findings of {how_many(pruned.runs, 'run')}, {size} in all"))
    out.print(text("every run, its record, its changes and the digest of its findings are kept", "dim"))
    return CLEAN


def _old(runs: list[RunLine], keep: str) -> list[RunLine]:
    """The runs whose findings are not to be kept."""
    judged = [line for line in runs if line.judged]
    if keep.isdecimal() and int(keep):
        return judged[: -int(keep)]
    span = parse_span(keep)
    if not span:
        raise fail(
            f'--keep "{keep}" says neither how long nor how many', hint="like 26w, or 30 for the last 30 runs"
        )
    now = max([datetime.now(UTC), *(line.ran_at for line in judged)])
    return [line for line in judged if now - line.judged_at > span]
