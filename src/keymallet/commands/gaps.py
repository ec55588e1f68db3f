"""Why evidence is incomplete: what was not read, refused, or read too long ago."""

from __future__ import annotations

from datetime import datetime, timedelta

from keymallet.core.base.source_names import is_of
from keymallet.core.language.literals import span_text
from keymallet.sources.estate import Estate
from keymallet.store.snapshot import Snapshot


def gaps_of(snapshot: Snapshot, estate: Estate | None, at: datetime) -> list[str]:
    """Why the evidence is incomplete: records that were refused, sources read too long ago."""
    gaps = []
    for name, source in snapshot.manifest.sources.items():
        if source.failed:
            gaps.append(f"{name}: not read: {source.failed}")
        gaps += [f"{name}: {reason}" for reason in source.incomplete]
        refused = sum(intake.refused for intake in source.intake.values())
        if refused:
            gaps.append(f"{name}: {refused:,} {'record was' if refused == 1 else 'records were'} refused")
    for declared in estate.sources if estate else ():
        read = [
            source.read_at for name, source in snapshot.manifest.sources.items() if is_of(name, declared.name)
        ]
        if not read:
            gaps.append(f"{declared.name}: not in the snapshot")
        elif declared.stale_after is not None and at - min(read) > declared.stale_after:
            age = timedelta(hours=(at - min(read)) // timedelta(hours=1))
            gaps.append(
                f"{declared.name}: read {span_text(age)} before, more than {span_text(declared.stale_after)}"
            )
    return gaps
