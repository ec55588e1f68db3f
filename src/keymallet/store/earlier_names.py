"""Login names that accounts of a source had in earlier snapshots."""

from __future__ import annotations

import polars as pl

from keymallet.core.base.problems import KeymalletError
from keymallet.store.snapshot import MANIFEST, Snapshot, read_snapshot

MOST_LOOKED_INTO = 30
"""So many earlier snapshots are looked into, spread evenly over all there are."""


def earlier_names(newest: Snapshot, source: str) -> set[str]:
    """The login names of a source in snapshots of the same estate, beside the newest, that are older than it.

    Snapshots that cannot be read, or that another version wrote, tell nothing.
    """
    older = _older(newest)
    step = max(1, -(-len(older) // MOST_LOOKED_INTO))
    return {name for snapshot in older[::step] for name in _names(snapshot, source)}


def names_in_snapshot_before(newest: Snapshot, source: str) -> set[str] | None:
    """The login names of a source in the snapshot before the newest one; None where there is none."""
    older = _older(newest)
    return _names(older[-1], source) if older else None


def _older(newest: Snapshot) -> list[Snapshot]:
    """The snapshots of the same estate that were made before, the oldest first."""
    found = []
    for entry in newest.folder.parent.iterdir():
        if entry.name.startswith(".") or not (entry / MANIFEST).is_file():
            continue
        try:
            snapshot = read_snapshot(entry)
        except KeymalletError:
            continue
        mine = snapshot.manifest.estate == newest.manifest.estate
        if mine and snapshot.manifest.number < newest.manifest.number:
            found.append(snapshot)
    return sorted(found, key=lambda snapshot: snapshot.manifest.number)


def _names(snapshot: Snapshot, source: str) -> set[str]:
    try:
        accounts = snapshot.evidence({"account": {"name"}}).tables["account"]
    except KeymalletError:
        return set()
    mine = accounts.filter(pl.col("source").cast(pl.String) == source)
    return set(mine["name"].drop_nulls())
