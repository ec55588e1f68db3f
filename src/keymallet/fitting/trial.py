"""The map put to the test: the whole file read by it, before it is used for anything."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from datetime import datetime
from pathlib import Path
from zoneinfo import ZoneInfo

from keymallet.core.facts.reading import Reading
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
