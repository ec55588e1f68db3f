"""How the sources were read: counts, what was refused and where, what is not supplied."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from zoneinfo import ZoneInfo

import polars as pl
from rich.console import Console
from rich.padding import Padding

from keymallet.core.base.listing import and_more, how_many, some_names
from keymallet.core.facts import wording
from keymallet.core.facts.declaration import TABLES
from keymallet.core.facts.reading import Reading, Refusal, TableIntake
from keymallet.store.snapshot import Snapshot, SourceRecord
from keymallet.views.plain_table import PlainTable
from keymallet.views.terminal import text

LINES_NAMED = 6
SOURCES_SHOWN = 20
FIRST_SHOWN = 5
_FIRST_LOOK = {
    "account": ("name", "kind", "enabled", "locked", "ends", "last-sign-in", "password-changed"),
    "person": ("person", "name", "unit", "status", "joins", "leaves"),
}
_PLURALS = {"person": "people"}


def show_intake(
    out: Console, snapshot: Snapshot, *, only_gaps: bool = False, most: int = SOURCES_SHOWN
) -> None:
    """Print one block for each source; with `only_gaps`, only what was not read.

    Of more than `most` sources, those with gaps are shown first and the rest are counted.
    """
    sources = snapshot.manifest.sources.items()
    shown = [(name, source) for name, source in sources if not only_gaps or has_gaps(source)]
    if len(shown) > most:
        shown.sort(key=lambda named: not has_gaps(named[1]))
    for name, source in shown[:most]:
        _show_source(out, name, source, only_gaps=only_gaps)
    if len(shown) > most:
        out.print(text(_others(shown[most:], only_gaps), "bold"))


def _show_source(out: Console, name: str, source: SourceRecord | Reading, *, only_gaps: bool) -> None:
    intakes = source.intake.items()
    sentences = [_sentence(table, intake) for table, intake in intakes if intake.refused or intake.unreadable]
    whole = [counted(part.read, table) for table, part in intakes if not (part.refused or part.unreadable)]
    if whole and not only_gaps:
        sentences.append(f"read {', '.join(whole)}")
    out.print(text(name, "bold"))
    if source.failed:
        out.print(Padding(text(f"not read: {source.failed}", "red"), (0, 0, 0, 2), expand=False))
    for reason in source.incomplete:
        out.print(Padding(text(f"incomplete: {reason}", "yellow"), (0, 0, 0, 2), expand=False))
    reasons = (*source.referrals, *source.empty_files, *emptied(source.emptied), *shrunk(source))
    for reason in (*reasons, *strays(source.intake)):
        out.print(Padding(text(f"incomplete: {reason}", "yellow"), (0, 0, 0, 2), expand=False))
    for sentence in sentences:
        out.print(Padding(text(sentence), (0, 0, 0, 2), expand=False))
    for remark in [] if only_gaps else source.remarks:
        out.print(Padding(text(remark, "dim"), (0, 0, 0, 2), expand=False))


def show_reading(out: Console, reading: Reading, clock: ZoneInfo) -> None:
    """Print how one source was read, and its first accounts as they were taken."""
    _show_source(out, reading.source, reading, only_gaps=False)
    for table, names in _FIRST_LOOK.items():
        if table in reading.tables:
            _show_first(out, table, reading.tables[table].head(FIRST_SHOWN), names, clock)


def _show_first(
    out: Console, table: str, rows: pl.DataFrame, names: tuple[str, ...], clock: ZoneInfo
) -> None:
    columns = [TABLES[table].column(name) for name in names if name in rows.columns]
    if not rows.height:
        return
    grid = PlainTable()
    grid.add_column("")
    shown = []
    for column in columns:
        assert column is not None
        grid.add_column(column.name)
        shown.append(wording.values(rows[column.name], column.kind, clock).fill_null("·"))
    for row in zip(*shown, strict=True):
        grid.add_row("", *map(text, row))
    out.print(grid)


def _others(rest: list[tuple[str, SourceRecord]], only_gaps: bool) -> str:
    """The sources that are not shown one by one, in one line."""
    gaps = sum(has_gaps(source) for _, source in rest)
    if only_gaps:
        return f"{and_more(gaps, 'source')} with gaps: keymallet read --all tells each"
    whole = Counter[str]()
    for _, source in rest:
        for table, intake in source.intake.items():
            whole[table] += intake.read
    read = ", ".join(counted(number, table) for table, number in whole.items())
    remark = f"{gaps:,} of them with gaps" if gaps else "nothing refused"
    return f"{and_more(len(rest), 'source')}: read {read}; {remark}; --all tells each"


def emptied(columns: Mapping[str, Sequence[str]]) -> list[str]:
    """In words: the tables and columns that had values before and have none now."""
    return [
        f"{table}.{name} had values before and has none now" if name else f"{table} had rows before, none now"
        for table, names in columns.items()
        for name in names
    ]


def shrunk(source: SourceRecord | Reading) -> list[str]:
    """In words: the tables that have less than half of the rows they had, but some."""
    told = []
    for table, before in source.shrunk.items():
        now = source.known.get(table, {}).get("", 0)
        if now:
            told.append(f"{counted(now, table)} where there were {before:,}; right? read --accept-drop")
    return told


def strays(intake: Mapping[str, TableIntake]) -> list[str]:
    """In words: the rows that name accounts which are not there, table by table."""
    told = []
    for table, part in intake.items():
        if part.strays:
            rows = how_many(part.strays, "row names an account", "rows name accounts")
            few = some_names(part.stray_names)
            tail = f": {few}" if len(part.stray_names) >= part.strays else f", {few} among them"
            there = "that is not there" if part.strays == 1 else "that are not there"
            told.append(f"{table}: {rows} {there}{tail}{_found_by(part)}")
    return told


def _found_by(part: TableIntake) -> str:
    """By what rows that name nobody would find their accounts, and what has to be written in the map."""
    if not part.stray_by:
        return ""
    found = f"{part.found_by:,} would be found"
    if part.stray_by == "name":
        return f"; {found} in other letters: ignore-case = true in the map"
    return f'; {found} by {part.stray_by}: by = "{part.stray_by}" in the map'


def has_gaps(source: SourceRecord | Reading) -> bool:
    """Whether a source was not read in full."""
    whole = not (
        source.incomplete
        or source.failed
        or source.referrals
        or source.empty_files
        or source.emptied
        or source.shrunk
    )
    return not whole or any(
        intake.refused or intake.unreadable or intake.strays for intake in source.intake.values()
    )


def counted(number: int, table: str) -> str:
    """`1 account`, `376 people`, `816 factors`."""
    return how_many(number, table, _PLURALS.get(table, ""))


def _sentence(table: str, intake: TableIntake) -> str:
    """`read 412 accounts, refused 3 (lines 18, 77, 301: …)`."""
    parts = [f"read {counted(intake.read, table)}"]
    if intake.refused:
        parts.append(f"refused {intake.refused:,} ({_places(intake.refusals, intake.refused)})")
    if intake.unreadable:
        cells = how_many(intake.unreadable, "cell")
        parts.append(f"{cells} unreadable ({_places(intake.unreadable_cells, intake.unreadable)})")
    return ", ".join(parts)


def _places(refusals: list[Refusal], whole: int) -> str:
    """The lines, under their reasons."""
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
    return "; ".join(pieces) + (f"; {and_more(more)}" if more else "")
