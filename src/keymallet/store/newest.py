"""Which of the snapshots in a folder is the newest of an estate, and which are passed over."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path

from keymallet.core.base.listing import how_many, some_names
from keymallet.core.base.problems import KeymalletError, fail
from keymallet.store.snapshot import MANIFEST, OtherFormatError, Snapshot, read_snapshot


@dataclass(frozen=True)
class Found:
    """The newest snapshot of an estate; and what lies beside it and is passed over.

    `unreadable` gives by folder what is wrong with those that cannot be told for snapshots at all; the
    others are folders' names.
    """

    snapshot: Snapshot | None = None
    of_others: tuple[str, ...] = ()
    from_future: tuple[str, ...] = ()
    copies: tuple[str, ...] = ()
    unreadable: tuple[tuple[str, KeymalletError], ...] = ()

    @property
    def passed_over(self) -> list[str]:
        """In words: snapshots of another estate, copies."""
        said = []
        if self.of_others:
            number = how_many(len(self.of_others), "snapshot")
            said.append(f"{number} of another estate passed over: {some_names(self.of_others)}")
        if self.copies:
            number = how_many(len(self.copies), "snapshot")
            said.append(f"{number} passed over that stand twice: {some_names(self.copies)}")
        return said


_CLOCKS_DIFFER = timedelta(minutes=5)
"""By so much the clocks of two machines that share a folder may be apart."""


def find_newest(folder: Path, estate: str, at: datetime) -> Found:
    """The snapshot of the estate whose reading ended last, by what the manifests say.

    A folder's name or age tells nothing: either is changed by copying. Snapshots of another estate, copies,
    and those from the future (of evidence from after both now and `at`) are passed over. Unfinished ones
    do not count.
    """
    now = datetime.now(UTC)
    if not folder.is_dir():
        return Found()
    mine: dict[str, Snapshot] = {}
    of_others, from_future, copies = [], [], []
    unreadable: list[tuple[str, KeymalletError]] = []
    for entry in sorted(folder.iterdir()):
        if entry.name.startswith(".") or not (entry / MANIFEST).is_file():
            continue
        try:
            snapshot = read_snapshot(entry)
        except KeymalletError as error:
            unreadable.append((entry.name, error))
            continue
        if snapshot.manifest.estate != estate:
            of_others.append(entry.name)
        elif snapshot.manifest.ended > now + _CLOCKS_DIFFER or snapshot.manifest.read_at > max(now, at):
            from_future.append(entry.name)
        elif snapshot.digest in mine:
            copies.append(entry.name)
        else:
            mine[snapshot.digest] = snapshot
    newest = max(mine.values(), key=_order, default=None)
    return Found(newest, tuple(of_others), tuple(from_future), tuple(copies), tuple(unreadable))


def newest_of(folder: Path, estate: str, at: datetime) -> Found:
    """The same, to be judged by.

    Raises KeymalletError where a folder might hold the newest snapshot and cannot be read. One of an older
    format does not: whatever is newer than it was written by a version that knows the present one.
    """
    found = find_newest(folder, estate, at)
    known = found.snapshot.manifest.passed_over if found.snapshot else []
    for name, error in found.unreadable:
        outdated = isinstance(error, OtherFormatError) and error.is_older
        if name not in known and not (outdated and found.snapshot):
            raise error
    if found.snapshot is None and found.from_future:
        hint = "take them away, then: keymallet read"
        raise fail(
            f"there are only snapshots from after now: {some_names(found.from_future)}",
            file=str(folder),
            hint=hint,
        )
    return found


def _order(snapshot: Snapshot) -> tuple[int, datetime]:
    return snapshot.manifest.number, snapshot.manifest.ended
