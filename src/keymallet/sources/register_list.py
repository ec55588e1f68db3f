"""A list of exemptions that was kept elsewhere, read by a column map, for entries of the register."""

from __future__ import annotations

from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

from keymallet.core.base.problems import KeymalletError, Place, Problem, fail
from keymallet.core.facts.declaration import EXEMPTION
from keymallet.core.facts.reading import Reading, Refusal
from keymallet.core.rulebook.register import Exemption
from keymallet.sources.export.map_checks import read_column_map
from keymallet.sources.export.reading import FORMATS, usual_format
from keymallet.sources.export.table_file import TableFile
from keymallet.sources.request import Request, config_text


@dataclass(frozen=True)
class ListedEntry:
    """One row: the entry it comes to, and the line it stands on. Its `id` is as the list has it."""

    entry: Exemption
    place: Place


def read_register_list(file: str, map_file: str, clock: ZoneInfo, at: datetime) -> list[ListedEntry]:
    """The entries of a list. Raises KeymalletError with every row and cell that cannot be read."""
    usual = usual_format(file)
    column_map = read_column_map(
        config_text(Path(map_file), map_file), map_file, clock, FORMATS[usual].header_fault
    )
    if EXEMPTION.name not in column_map.tables:
        hint = f"add [{EXEMPTION.name}.columns], with {EXEMPTION.required} = the column of its number or name"
        raise fail("the map says nothing about exemptions", file=map_file, hint=hint)
    rows_of = FORMATS[column_map.settings_of(file).read or usual].rows_of
    reading = Reading("register")
    found: list[ListedEntry] = []
    problems: list[Problem] = []
    with ThreadPoolExecutor() as workers:
        request = Request("register", Path(), clock, at, workers)
        for part in column_map.tables[EXEMPTION.name]:
            table_file = TableFile(part, file, keep_lines=True)
            table_file.read(column_map, request, reading, rows_of)
            intake = table_file.intake
            problems += map(_problem, (*intake.refusals, *intake.unreadable_cells))
            found += _entries(table_file)
    if problems:
        raise KeymalletError(problems)
    return found


def _problem(refusal: Refusal) -> Problem:
    column = f'"{refusal.column}": ' if refusal.column else ""
    return Problem(f"{column}{refusal.reason}", Place(refusal.file, refusal.line))


def _entries(table_file: TableFile) -> Iterator[ListedEntry]:
    for row, line in zip(table_file.frame.to_dicts(), table_file.lines, strict=True):
        yield ListedEntry(_entry(row), Place(table_file.path, line))


def _entry(row: dict[str, Any]) -> Exemption:
    def text(name: str) -> str:
        return (row.get(name) or "").strip()

    def several(name: str) -> tuple[str, ...]:
        return tuple(row.get(name) or ())

    return Exemption(
        id=text("exemption"),
        kind=text("kind"),
        accounts=several("accounts"),
        rules=several("rules"),
        gates=several("gates"),
        reason=text("reason"),
        asked_by=text("asked-by"),
        approved_by=text("approved-by"),
        start=row.get("from"),
        end=row.get("until"),
        reviewed=row.get("reviewed"),
        review_every=row.get("review-every"),
        matched=row.get("matched"),
        drilled=row.get("drilled"),
        watch=several("watch"),
        safeguards=text("safeguards"),
    )
