"""Login names that accounts of a source had in earlier snapshots."""

from __future__ import annotations

from pathlib import Path

import polars as pl

from keymallet.core.base.problems import KeymalletError
from keymallet.store.snapshot import MANIFEST, Snapshot, read_snapshot

MOST_LOOKED_INTO = 30
"""So many earlier snapshots are looked into, spread evenly over all there are."""


def earlier_names(folder: Path, estate: str, source: str, newest: Snapshot) -> set[str]:
    """The login names of a source in snapshots of the estate that are older than the newest one.

    Snapshots that cannot be read, or that another version wrote, tell nothing.
    """
    if not folder.is_dir():
        return set()
    older = []
    for entry in sorted(folder.iterdir()):
        if entry.name.startswith(".") or not (entry / MANIFEST).is_file():
            continue
        try:
            snapshot = read_snapshot(entry)
        except KeymalletError:
            continue
        if snapshot.manifest.estate == estate and snapshot.manifest.number < newest.manifest.number:
            older.append(snapshot)
    step = max(1, -(-len(older) // MOST_LOOKED_INTO))
    names: set[str] = set()
    for snapshot in older[::step]:
        try:
            accounts = snapshot.evidence({"account": {"name"}}).tables["account"]
        except KeymalletError:
            continue
        names.update(
            accounts.filter(pl.col("source").cast(pl.String) == source)["name"].drop_nulls().to_list()
        )
    return names
