"""Rows of exports that were refused, as they stood: to be corrected and read again."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from pathlib import Path

from keymallet.core.facts.reading import Refusal
from keymallet.sources.estate import Estate
from keymallet.sources.export.map_checks import read_column_map
from keymallet.sources.request import config_text, read_file
from keymallet.sources.sections import ExportSection

_LINES = ("csv", "text")
_UTF16 = (b"\xff\xfe", b"\xfe\xff")


def refused_rows(estate: Estate, refusals: Mapping[str, Iterable[Refusal]]) -> dict[str, bytes]:
    """By the path of each export, its header and those of its rows that were refused, byte for byte.

    `refusals` are those of each source. Only of files whose rows are lines; a row that was refused for what
    stood on another line is among them too.
    """
    found: dict[str, bytes] = {}
    for source in estate.sources:
        section = source.section
        if not isinstance(section, ExportSection) or section.read not in _LINES:
            continue
        spans: dict[str, set[tuple[int, int]]] = {}
        for refusal in refusals.get(source.name, ()):
            if refusal.line:
                last = max(refusal.last_line, refusal.line)
                spans.setdefault(refusal.file, set()).add((refusal.line, last))
        text = config_text(estate.folder / section.map, section.map)
        column_map = read_column_map(text, section.map, estate.clock)
        for path, places in spans.items():
            header = column_map.settings_of(path).header_line
            above = (1 if section.read == "csv" else 0) if header is None else header
            lines = _lines_of(read_file(estate.folder / path, path))
            rows = [line for first, last in sorted(places) for line in lines[first - 1 : last]]
            found[path] = b"".join([*lines[max(above - 1, 0) : above], *rows])
    return found


def _lines_of(data: bytes) -> list[bytes]:
    """The lines of a file with their ends; of UTF-16, told by its mark, as UTF-8."""
    if data.startswith(_UTF16):
        data = data.decode("utf-16", "replace").encode()
    return data.splitlines(keepends=True) if b"\n" not in data else _by_line_feeds(data)


def _by_line_feeds(data: bytes) -> list[bytes]:
    lines = [line + b"\n" for line in data.split(b"\n")]
    lines[-1] = lines[-1][:-1]
    return lines if lines[-1] else lines[:-1]


def named_apart(target: Path, paths: Iterable[str]) -> dict[str, Path]:
    """Where the rows of each export go: the file that was named; of several, one each beside it."""
    several = list(paths)
    if len(several) == 1:
        return {several[0]: target}
    return {path: target.with_name(f"{target.stem}-{Path(path).stem}{target.suffix}") for path in several}
