"""Making room in a logbook: findings of old runs, and files that no run names, are removed.

The chain stays whole: each run, its record and its changes are kept, and of its findings the digest.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from pathlib import Path

from sqlalchemy import update

from keymallet.store.logbook.logbook import FINDINGS, RECORD, TEXT, Logbook
from keymallet.store.logbook.records import RunLine
from keymallet.store.logbook.tables import RUN


@dataclass(frozen=True)
class Pruned:
    """What pruning removed, or would: of how many runs, how many files, of how many bytes."""

    runs: int
    files: int
    bytes: int


def prune(logbook: Logbook, old: Collection[RunLine], *, dry_run: bool) -> Pruned:
    """Remove the findings of these runs, and every file that no run names.

    The findings of the last run that came to verdicts are kept in any case: the next one follows them.
    """
    with logbook.alone() as connection:
        runs = logbook.runs()
        last = next((run.number for run in reversed(runs) if run.judged), 0)
        numbers = {run.number for run in old} - {last}
        gone = [run for run in runs if run.number in numbers and run.judged and not run.pruned]
        numbers = {run.number for run in gone}
        wanted = _named(logbook, runs, numbers)
        unwanted = [path for path in _files(logbook) if path not in wanted]
        pruned = Pruned(len(gone), len(unwanted), sum(path.stat().st_size for path in unwanted))
        if not dry_run:
            connection.execute(update(RUN).where(RUN.c.number.in_(numbers)).values(pruned=True))
    if not dry_run:
        # Only once the index says so: a file that is missing is one that was removed.
        for path in unwanted:
            path.unlink(missing_ok=True)
    return pruned


def _files(logbook: Logbook) -> list[Path]:
    return [path for path in logbook.contents.folder.glob("*/*") if path.suffix in (RECORD, FINDINGS, TEXT)]


def _named(logbook: Logbook, runs: Sequence[RunLine], gone: Collection[int]) -> set[Path]:
    """The files that runs name, but for the findings of those that go."""
    contents = logbook.contents
    named = set()
    for run in runs:
        named.add(contents.path(run.digest, RECORD))
        named |= {contents.path(text.blake3, TEXT) for text in logbook.record(run).texts}
        if run.findings and not run.pruned and run.number not in gone:
            named.add(contents.path(run.findings, FINDINGS))
    return named
