"""What can be concluded from what is missing in a snapshot."""

from __future__ import annotations

from collections.abc import Collection

from keymallet.core.facts.declaration import ACCOUNT
from keymallet.core.facts.reading import TableIntake
from keymallet.core.history.lives import Wholeness
from keymallet.store.snapshot import Snapshot, SourceRecord


def wholeness(snapshot: Snapshot, retired: Collection[str], earlier: Snapshot | None) -> Wholeness:
    """What a row that is missing from a snapshot can tell; `retired` are sources that exist no longer.

    `earlier` is what the run before rested on, if it is still there.
    """
    sources = snapshot.manifest.sources
    before = earlier.manifest.sources if earlier else {}
    return Wholeness(
        frozenset(name for name, source in sources.items() if source.failed or _is_cut_short(source)),
        {
            name: frozenset(table for table, intake in source.intake.items() if intake.refused)
            | _elsewhere(source)
            for name, source in sources.items()
        },
        {name: frozenset(source.supply) for name, source in sources.items()},
        tuple(retired),
        frozenset(name for name, source in sources.items() if not source.failed and _is_cut_short(source)),
        {
            name: frozenset(
                table
                for table, intake in source.intake.items()
                if intake.refused and not intake.refuses_the_same_as(_intake(before.get(name), table))
            )
            | _elsewhere(source)
            for name, source in sources.items()
        },
    )


def _is_cut_short(source: SourceRecord) -> bool:
    """Whether a source gave a part: by its own word, or by what is missing and nobody has confirmed."""
    return bool(source.incomplete or source.emptied or source.shrunk)


def _elsewhere(source: SourceRecord) -> frozenset[str]:
    """What another server has was not asked for: an account that is missing may have moved there."""
    return frozenset([ACCOUNT.name] if source.referrals else [])


def _intake(source: SourceRecord | None, table: str) -> TableIntake:
    return source.intake.get(table, TableIntake()) if source else TableIntake()
