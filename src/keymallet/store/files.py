"""Files that are written whole or not at all."""

from __future__ import annotations

import os
import stat
import tempfile
from collections.abc import Iterable
from contextlib import suppress
from pathlib import Path

OWNER_ALONE = 0o600
"""The mode of a new file: what this program writes tells who falls short."""


def write_whole(path: Path, data: bytes | Iterable[bytes]) -> None:
    """Write a file whole or not at all: under a name that cannot be guessed beside it, then moved there.

    Of `data` in pieces, each is written as it comes.

    A file that is there already keeps its mode, and its owner where that is possible. Of a symbolic link,
    the target is replaced; a device or a pipe is written to. Raises OSError, with what was there unharmed.
    """
    pieces = [data] if isinstance(data, bytes) else data
    there = path.stat() if path.exists() else None
    if there is not None and not stat.S_ISREG(there.st_mode):
        with path.open("wb") as device:
            device.writelines(pieces)
        return
    target = path.resolve()
    handle, name = tempfile.mkstemp(prefix=".keymallet-", dir=target.parent)
    unfinished = Path(name)
    try:
        with os.fdopen(handle, "wb") as file:
            file.writelines(pieces)
            file.flush()
            os.fsync(file.fileno())
        if there is not None:
            with suppress(PermissionError):
                os.chown(unfinished, there.st_uid, there.st_gid)
        unfinished.chmod(OWNER_ALONE if there is None else stat.S_IMODE(there.st_mode))
        unfinished.replace(target)
    except BaseException:
        unfinished.unlink(missing_ok=True)
        raise


def sync(path: Path) -> None:
    """Have what was written to a file or folder stand on the disk. Raises OSError if that cannot be."""
    descriptor = os.open(path, os.O_RDONLY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)
