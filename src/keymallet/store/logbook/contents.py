"""Files that are known by what is in them: each under its own digest, written once, never changed."""

from __future__ import annotations

from pathlib import Path

from blake3 import blake3

from keymallet.core.base.problems import KeymalletError, fail
from keymallet.store.files import sync, write_whole


class Contents:
    """A folder of files, each named by the BLAKE3 of its bytes."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def put(self, data: bytes, ending: str) -> str:
        """Keep these bytes, and return their digest; what is there already is left as it is.

        Raises OSError if the disk does not take it.
        """
        digest = blake3(data, max_threads=blake3.AUTO).hexdigest()
        path = self.path(digest, ending)
        if not path.exists():
            for folder in (self.folder, path.parent):
                folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            write_whole(path, data)
            sync(path.parent)
        return digest

    def get(self, digest: str, ending: str) -> bytes:
        """The bytes of this digest. Raises KeymalletError if they are not there, or others in their place."""
        path = self.path(digest, ending)
        try:
            data = path.read_bytes()
        except OSError as error:
            raise _missing(path, str(error.strerror or error)) from None
        if blake3(data, max_threads=blake3.AUTO).hexdigest() != digest:
            raise fail("this file of the logbook is not the one that was written", file=str(path), hint=_HINT)
        return data

    def path(self, digest: str, ending: str) -> Path:
        """Where the file of this digest stands, whether it is there or not."""
        return self.folder / digest[:2] / f"{digest}{ending}"


_HINT = "keymallet logbook verify says what else is not as it was written"


def _missing(path: Path, why: str) -> KeymalletError:
    return fail(f"a file of the logbook cannot be read: {why}", file=str(path), hint=_HINT)
