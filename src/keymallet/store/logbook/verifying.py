"""Whether a logbook is as it was written: every run in its place, each text and finding by its digest."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import msgspec
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey
from sqlalchemy import select

from keymallet.core.base.problems import KeymalletError
from keymallet.store.logbook.logbook import (
    FINDINGS,
    TEXT,
    Logbook,
    index_values,
    transitions_digest,
)
from keymallet.store.logbook.records import RunLine, RunRecord, head_of
from keymallet.store.logbook.signing import is_signed
from keymallet.store.logbook.tables import RUN, TRANSITION


@dataclass(frozen=True)
class Mismatch:
    """One thing that is not as it was written: which run (0: the logbook as a whole), and what."""

    run: int
    text: str


def verify(logbook: Logbook, head: str = "", key: Ed25519PublicKey | None = None) -> Iterator[Mismatch]:
    """Everything that is not as it was written; nothing if all is.

    `head` is one that has to be in it; with a `key`, each run has to be signed by it. The chain tells of runs
    that were altered, removed from its middle, put in, or reordered. That runs were removed from its end,
    only a `head` from outside tells.
    """
    runs = logbook.runs()
    before: RunLine | None = None
    checked: set[tuple[str, str]] = set()
    for run in runs:
        number = before.number + 1 if before else 1
        if run.number != number:
            gap = (
                f"runs {number} to {run.number - 1} are missing"
                if run.number > number + 1
                else f"run {number} is missing"
            )
            yield Mismatch(run.number, f"{gap} before run {run.number}")
        if run.previous != (before.head if before else "") or run.head != head_of(run.previous, run.digest):
            yield Mismatch(
                run.number, "it does not follow the run before it: one was altered, removed or put in"
            )
        if key is not None and not is_signed(run.head, run.signature, key):
            said = "its signature is not that of this key" if run.signature else "it is not signed"
            yield Mismatch(run.number, said)
        yield from _of_run(logbook, run, checked)
        before = run
    if head and not any(run.head.startswith(head) for run in runs):
        last = f"the last is run {runs[-1].number}" if runs else "it is empty"
        yield Mismatch(0, f"no run has the head {head}: runs were removed from the end, or altered; {last}")


def _of_run(logbook: Logbook, run: RunLine, checked: set[tuple[str, str]]) -> Iterator[Mismatch]:
    try:
        record = logbook.record(run)
    except KeymalletError as error:
        yield Mismatch(run.number, f"its record: {error.problems[0].message}")
        return
    except msgspec.DecodeError as error:
        yield Mismatch(run.number, f"its record cannot be read: {error}")
        return
    yield from _index(logbook, run, record)
    for what, digest, ending in _files(record):
        if (digest, ending) in checked or (run.pruned and ending == FINDINGS):
            continue
        try:
            logbook.contents.get(digest, ending)
            checked.add((digest, ending))
        except KeymalletError as error:
            yield Mismatch(run.number, f"{what}: {error.problems[0].message}")


def _files(record: RunRecord) -> Iterator[tuple[str, str, str]]:
    for text in record.texts:
        yield f"the text of {text.name}", text.blake3, TEXT
    if record.findings is not None:
        yield "its findings", record.findings.blake3, FINDINGS


def _index(logbook: Logbook, run: RunLine, record: RunRecord) -> Iterator[Mismatch]:
    """What the tables say of a run, against its record."""
    with logbook.reading() as connection:
        row = connection.execute(select(RUN).where(RUN.c.number == run.number)).one()._asdict()
        changes = connection.execute(
            select(TRANSITION).where(TRANSITION.c.run == run.number).order_by(TRANSITION.c.finding)
        )
        rows = [change._asdict() for change in changes]
    told = index_values(record, run.digest)
    other = [name for name, value in told.items() if row[name] != value and name != "pruned"]
    if other:
        yield Mismatch(run.number, f"the index differs from its record: {', '.join(other)}")
    wanted = record.transitions.blake3 if record.transitions else transitions_digest([])
    if transitions_digest(rows) != wanted:
        yield Mismatch(run.number, "its changes were altered, removed or added to")
