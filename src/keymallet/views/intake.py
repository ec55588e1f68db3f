"""How the sources were read: counts, what was refused and where, what is not supplied."""

from __future__ import annotations

from rich.console import Console
from rich.padding import Padding

from keymallet.core.reading import Refusal, TableIntake
from keymallet.store.snapshot import Snapshot
from keymallet.views.terminal import count, text

LINES_NAMED = 6


def show_intake(out: Console, snapshot: Snapshot, *, only_gaps: bool = False) -> None:
    """Print one block for each source; with `only_gaps`, only what was not read."""
    for name, source in snapshot.manifest.sources.items():
        sentences = [
            _sentence(table, intake)
            for table, intake in source.intake.items()
            if not only_gaps or intake.refused or intake.unreadable
        ]
        remarks = [] if only_gaps else source.remarks
        if sentences or remarks:
            out.print(text(name, "bold"))
            for sentence in sentences:
                out.print(Padding(text(sentence), (0, 0, 0, 2), expand=False))
            for remark in remarks:
                out.print(Padding(text(remark, "dim"), (0, 0, 0, 2), expand=False))


def has_gaps(snapshot: Snapshot) -> bool:
    """Whether any record or cell was not read."""
    return bool(snapshot.refused or snapshot.unreadable)


def _sentence(table: str, intake: TableIntake) -> str:
    """`read 412 accounts, refused 3 (lines 18, 77, 301: …)`."""
    parts = [f"read {count(intake.read, table)}"]
    if intake.refused:
        parts.append(f"refused {intake.refused:,} ({_places(intake.refusals, intake.refused)})")
    if intake.unreadable:
        cells = count(intake.unreadable, "cell")
        parts.append(f"{cells} unreadable ({_places(intake.unreadable_cells, intake.unreadable)})")
    return ", ".join(parts)


def _places(refusals: list[Refusal], whole: int) -> str:
    """The lines, gathered under their reasons."""
    named = refusals[:LINES_NAMED]
    by_reason: dict[tuple[str, str], list[Refusal]] = {}
    for refusal in named:
        what = f"{refusal.column}: {refusal.reason}" if refusal.column else refusal.reason
        by_reason.setdefault((refusal.file, what), []).append(refusal)
    pieces = []
    for (file, reason), same in by_reason.items():
        lines = [refusal.lines for refusal in same if refusal.line]
        where = f"{file} {'line' if len(lines) == 1 else 'lines'} {', '.join(lines)}: " if lines else ""
        pieces.append(f"{where}{reason}")
    more = whole - len(named)
    return "; ".join(pieces) + (f"; and {more:,} more" if more else "")
