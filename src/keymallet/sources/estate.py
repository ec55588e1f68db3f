"""The estate file: the organisation, its clock, its sources, its rulebook."""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import timedelta
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import msgspec

from keymallet.core.language.literals import parse_span
from keymallet.core.nearest import did_you_mean
from keymallet.core.toml_text import TomlDocument
from keymallet.sources.column_map import is_zone
from keymallet.sources.request import read_file, utf8_text
from keymallet.sources.sections import READERS

_SOURCE_NAME = re.compile(r"[a-z0-9]+(?:-[a-z0-9]+)*")


class EstateText(msgspec.Struct, rename="kebab", frozen=True):
    """The estate file as it stands; each source's section is read by the shape of its reader."""

    organisation: str
    clock: str
    rulebook: str
    source: dict[str, Any]
    snapshots: str = "snapshots"
    largest_drop: int = 20


@dataclass(frozen=True)
class Source:
    """One source of the estate: the module that reads it, how long that may take, how old it may get."""

    name: str
    section: Any
    reader: str
    stale_after: timedelta | None
    within: timedelta = timedelta(hours=1)


@dataclass(frozen=True)
class Estate:
    """A checked estate file. Paths in it are taken from `folder`, the folder it is in.

    `largest_drop` is by how many of a hundred accounts a source may shrink without being asked about.
    """

    file: Path
    organisation: str
    clock: ZoneInfo
    rulebook: Path
    snapshots: Path
    sources: tuple[Source, ...]
    largest_drop: int

    @property
    def folder(self) -> Path:
        """The folder the estate file is in."""
        return self.file.parent


def read_estate(file: Path) -> Estate:
    """Read and check an estate file. Raises KeymalletError with every problem in it."""
    shown = str(file)
    document = TomlDocument(utf8_text(read_file(file, shown), shown), shown)
    found = document.read(EstateText, document.data)
    clock = document.data.get("clock")
    if isinstance(clock, str) and not is_zone(clock):
        document.fault(("clock",), f'"{clock}" is no time zone', 'like "Europe/Zurich", "UTC"')
    sections = document.data.get("source", {})
    sources = (
        [_source(document, name, data) for name, data in sections.items()]
        if isinstance(sections, dict)
        else []
    )
    if not sources and not document.problems:
        document.fault(
            ("source",), "no source is named", 'add [source.some-name] with read = "csv" or "host"'
        )
    for source in filter(None, sources):
        persons = getattr(source.section, "persons", "")
        if persons and persons not in sections:
            hint = did_you_mean(persons, sections) or f"there are: {', '.join(sections)}"
            document.fault(("source", source.name, "persons"), f'there is no source "{persons}"', hint)
    document.raise_problems()
    assert found is not None
    folder = file.parent
    return Estate(
        file,
        found.organisation,
        ZoneInfo(found.clock),
        folder / found.rulebook,
        folder / found.snapshots,
        tuple(source for source in sources if source),
        found.largest_drop,
    )


def _source(document: TomlDocument, name: str, data: Any) -> Source | None:
    path = ("source", name)
    if not _SOURCE_NAME.fullmatch(name):
        document.fault(
            path, f'"{name}" cannot name a source', "small letters, digits and single hyphens: hr-export"
        )
    reader = data.get("read") if isinstance(data, dict) else None
    if reader not in READERS:
        given = f'nothing is known of read = "{reader}"' if reader is not None else '"read" is missing'
        hint = did_you_mean(str(reader), READERS) or f"there are: {', '.join(READERS)}"
        document.fault((*path, "read") if reader is not None else path, given, hint)
        return None
    shape, module = READERS[reader]
    section = document.read(shape, data, path)
    spans = {key: _span(document, path, data, key) for key in ("stale-after", "within")}
    if section is None:
        return None
    return Source(name, section, module, spans["stale-after"], spans["within"] or timedelta(hours=1))


def _span(document: TomlDocument, path: tuple[str, ...], data: dict[str, Any], key: str) -> timedelta | None:
    """A length of time of a source's section; None where it is not set."""
    written = data.get(key)
    if not isinstance(written, str):
        return None
    span = parse_span(written)
    if span is None:
        document.fault((*path, key), f'"{written}" is no length of time', "like 36h or 7d")
    return span
