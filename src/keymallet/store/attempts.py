"""The last attempt to read an estate: when, and what became of it, so that a failed one is not forgotten."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager, suppress
from datetime import UTC, datetime
from pathlib import Path

import msgspec
from blake3 import blake3
from filelock import FileLock, Timeout

from keymallet.core.base.problems import KeymalletError, in_one_line
from keymallet.store.files import write_whole

_A_MOMENT = 0.5
"""Seconds for which a lock is waited for that somebody may only be asking about."""


class Attempt(msgspec.Struct, rename="kebab", frozen=True):
    """One attempt to read the sources of an estate.

    `snapshot` is the digest of what it made; `failed` says why it made none. With neither, it did not end.
    """

    estate: str
    began: datetime
    snapshot: str = ""
    failed: str = ""


@contextmanager
def attempt(folder: Path, estate: str) -> Iterator[Recorder]:
    """Note that a reading begins, and how it ends: with a snapshot, with what failed, or not at all.

    Where nothing can be noted, because the folder takes nothing, the reading itself goes on.
    """
    with suppress(OSError):
        folder.mkdir(parents=True, exist_ok=True)
    recorder = Recorder(folder, Attempt(estate, datetime.now(UTC)))
    lock = FileLock(_file(folder, estate).with_suffix(".lock"), mode=0o600)
    try:
        lock.acquire(timeout=_A_MOMENT)
    except (Timeout, OSError):
        # Another one is under way: whichever ends last is noted.
        yield from _noted(recorder)
        return
    try:
        recorder.note(recorder.begun)
        yield from _noted(recorder)
    finally:
        lock.release()


class Recorder:
    """Takes the outcome of an attempt."""

    def __init__(self, folder: Path, begun: Attempt) -> None:
        self.folder = folder
        self.begun = begun

    def made(self, digest: str) -> None:
        """Note the snapshot that was made."""
        self.note(msgspec.structs.replace(self.begun, snapshot=digest))

    def note(self, outcome: Attempt) -> None:
        """Write it down, whole or not at all; what cannot be written is let go."""
        file, written = _file(self.folder, outcome.estate), msgspec.json.encode(outcome)
        try:
            write_whole(file, msgspec.json.format(written))
        except OSError:
            # A full disk has no room for another file; the note that is there has its own.
            with suppress(OSError), file.open("r+b") as there:
                there.write(written)
                there.truncate()


def _noted(recorder: Recorder) -> Iterator[Recorder]:
    try:
        yield recorder
    except KeymalletError as error:
        why = "; ".join(map(in_one_line, error.problems))
        recorder.note(msgspec.structs.replace(recorder.begun, failed=why))
        raise
    except BaseException as error:
        why = "it was interrupted" if isinstance(error, KeyboardInterrupt) else "a fault of the program"
        recorder.note(msgspec.structs.replace(recorder.begun, failed=why))
        raise


def last_attempt(folder: Path, estate: str) -> Attempt | None:
    """The last attempt to read the estate; None where there was none, or one is under way just now.

    A note that cannot be read stands for an attempt that failed.
    """
    file = _file(folder, estate)
    if not file.exists():
        return None
    try:
        last = msgspec.json.decode(file.read_bytes(), type=Attempt)
        # Only of one without an end is it asked whether somebody is still at it.
        ended = last.snapshot or last.failed
        return last if ended or not _under_way(file.with_suffix(".lock")) else None
    except (OSError, msgspec.DecodeError):
        return Attempt(
            estate, datetime.fromtimestamp(file.stat().st_mtime, UTC), failed="its note is damaged"
        )


def _under_way(path: Path) -> bool:
    lock = FileLock(path, mode=0o600)
    try:
        # Others who ask hold it for a moment too: only whoever reads holds it on.
        lock.acquire(timeout=_A_MOMENT)
    except Timeout:
        return True
    except OSError:
        return False
    lock.release()
    return False


def _file(folder: Path, estate: str) -> Path:
    """Its note; each estate of a folder has one of its own."""
    return folder / f".reading-{blake3(estate.encode()).hexdigest()[:12]}.json"
