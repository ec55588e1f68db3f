"""Files that one process changes at a time."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from filelock import FileLock, Timeout

from keymallet.core.base.problems import fail


@contextmanager
def alone_with(path: Path, *, patience: float, busy: str, hint: str, cannot: str) -> Iterator[None]:
    """Hold the lock beside a file, waiting `patience` seconds for whoever has it.

    Raises KeymalletError saying `busy` where somebody keeps it, and `cannot` where none can be made.
    """
    target = path.resolve()
    lock = FileLock(target.with_name(f".{target.name}.lock"), timeout=patience, mode=0o600)
    try:
        lock.acquire()
    except Timeout:
        raise fail(busy, file=str(path), hint=hint) from None
    except OSError as error:
        raise fail(f"{cannot}: {error.strerror or error}", file=str(path)) from None
    try:
        yield
    finally:
        lock.release()
