"""The map put to the test: the file read by it, before it is used for anything."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from datetime import datetime
from pathlib import Path
from tempfile import TemporaryDirectory
from zoneinfo import ZoneInfo

import msgspec

from keymallet.core.base.problems import fail
from keymallet.core.facts.reading import Reading, Refusal
from keymallet.fitting.pieces import Pieces
from keymallet.sources.export.json_path import path_fault
from keymallet.sources.export.map_checks import read_column_map
from keymallet.sources.export.reading import read_mapped
from keymallet.sources.request import Request
from keymallet.sources.sections import ExportSection


def try_map(text: str, file: Path, kind: str, clock: ZoneInfo, at: datetime) -> Reading:
    """Read the file as `read` would.

    Raises KeymalletError where the map or the file as a whole is at fault.
    """
    fault = path_fault if kind == "json" else lambda header: ""
    column_map = read_column_map(text, "the guessed map", clock, fault)
    section = ExportSection(read=kind, map="", files=dict.fromkeys(column_map.tables, file.name))
    reading = Reading(file.name)
    with ThreadPoolExecutor(2) as workers:
        request = Request(file.name, file.parent, clock, at, workers)
        return read_mapped(section, column_map, request, reading)


def try_on_pieces(text: str, name: str, kind: str, pieces: Pieces, clock: ZoneInfo, at: datetime) -> Reading:
    """Read pieces of a file as `read` would; lines are those of the file.

    Raises KeymalletError as `try_map` does.
    """

    def in_file(refusal: Refusal) -> Refusal:
        last = pieces.line_of(refusal.last_line) if refusal.last_line else 0
        return msgspec.structs.replace(refusal, line=pieces.line_of(refusal.line), last_line=last)

    try:
        with TemporaryDirectory(prefix="keymallet-") as folder:
            file = Path(folder) / name
            file.write_bytes(pieces.data)
            reading = try_map(text, file, kind, clock, at)
    except OSError as error:
        hint = "TMPDIR names another folder for what is needed for a moment"
        raise fail(f"what was looked at cannot be tried: {error.strerror or error}", hint=hint) from None
    for intake in reading.intake.values():
        intake.refusals[:] = map(in_file, intake.refusals)
        intake.unreadable_cells[:] = map(in_file, intake.unreadable_cells)
    return reading
