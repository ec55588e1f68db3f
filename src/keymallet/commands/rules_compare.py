"""Say in words what changes from one rulebook to another, on the evidence there is."""

from __future__ import annotations

import argparse
from pathlib import Path
from zoneinfo import ZoneInfo

from keymallet.commands.books import read_rulebook_file
from keymallet.commands.exit_codes import CLEAN
from keymallet.commands.opening import instant, open_estate
from keymallet.commands.writing import output_stream, write_rows
from keymallet.core.evaluating.context import EvaluationContext, columns_used
from keymallet.core.rulebook.model import Rulebook
from keymallet.core.studies.compare import as_frame, compare
from keymallet.store.newest import newest_of
from keymallet.store.snapshot import read_snapshot
from keymallet.views.compare import show_changes
from keymallet.views.terminal import console


def run(options: argparse.Namespace) -> int:
    """Compare them. Raises KeymalletError if one of them has faults."""
    books = [read_rulebook_file(Path(name)) for name in (options.before, options.after)]
    context = _newest_evidence(options, books)
    changes = list(compare(books[0], books[1], context))
    if options.format == "table":
        with output_stream(options.output) as stream:
            names = (options.before, options.after)
            show_changes(console(stream), names, changes, on_evidence=context is not None)
    else:
        head = {"before": books[0].title, "after": books[1].title}
        write_rows(options, as_frame(changes), head, "changes")
    return CLEAN


def _newest_evidence(options: argparse.Namespace, books: list[Rulebook]) -> EvaluationContext | None:
    """The newest evidence, if there is any: without, books are compared by their text."""
    if options.snapshot:
        snapshot = read_snapshot(Path(options.snapshot))
    elif Path(options.estate).exists():
        estate = open_estate(options.estate)
        at = instant(options.at, estate.clock)
        newest = newest_of(estate.snapshots, estate.identity, at).snapshot
        if newest is None:
            return None
        snapshot = newest
    else:
        return None
    clock = ZoneInfo(snapshot.manifest.clock)
    used = columns_used(expression for book in books for expression in book.expressions())
    return EvaluationContext(snapshot.evidence(used), instant(options.at, clock), clock)
