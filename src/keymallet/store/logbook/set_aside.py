"""Failed runs that the logbook could not take when they failed: kept beside it, entered with the next run.

A full disk has no room for another file, and a server that is away takes nothing. So a small file stands
ready, written when there was room, and what failed is written over it in place.
"""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path

import msgspec

from keymallet.store.files import write_whole
from keymallet.store.logbook.records import RunRecord

NAME = "failed-runs"
_ROOM = 16_384  # bytes
_LONGEST = 500  # characters of what is said to have failed


class SetAside:
    """The file of one logbook's failed runs that are not in it yet."""

    def __init__(self, folder: Path) -> None:
        self.path = folder / NAME

    def prepare(self) -> None:
        """Have the file stand ready. Raises OSError if the disk does not take it."""
        if not self.path.exists():
            self.path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            write_whole(self.path, b" " * _ROOM)

    def note(self, record: RunRecord) -> bool:
        """Note one more; False if not even that can be written. The oldest make room for the newest."""
        short = msgspec.structs.replace(record, failed=record.failed[:_LONGEST])
        records = [*self.records(), short]
        while len(data := msgspec.json.encode(records)) > _ROOM:
            records = records[1:]
        with suppress(OSError):
            self.prepare()
        try:
            with self.path.open("r+b") as there:
                there.write(data.ljust(_ROOM))
        except OSError:
            return False
        return True

    def records(self) -> list[RunRecord]:
        """The failed runs that are set aside, the oldest first; what cannot be read is none."""
        try:
            return msgspec.json.decode(self.path.read_bytes().strip() or b"[]", type=list[RunRecord])
        except (OSError, msgspec.DecodeError):
            return []

    def clear(self) -> None:
        """Empty the file: what was in it is in the logbook now."""
        with suppress(OSError), self.path.open("r+b") as there:
            there.write(b" " * _ROOM)
