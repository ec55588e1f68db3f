"""A large file, looked at in pieces from all over it, each of whole rows."""

from __future__ import annotations

import bisect
import mmap
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

LARGE = 24_000_000
"""Bytes of a file that is looked at in pieces."""
_FIRST = 2_000_000
_PIECE = 150_000
_NUMBER = 40
_AT_ONCE = 1 << 22
_OTHER_LETTERS = (b"\xff\xfe", b"\xfe\xff")
"""What begins a file in UTF-16: its line ends are no single bytes."""


@dataclass(frozen=True)
class Pieces:
    """Rows of a file, in their order; `lines` are pairs of a line of `data` and the one it is in the file."""

    data: bytes
    lines: list[tuple[int, int]]

    def line_of(self, line: int) -> int:
        """Which line of the file a line of `data` is."""
        here, there = self.lines[bisect.bisect_right(self.lines, (line, 1 << 62)) - 1]
        return there + line - here


def pieces_of(path: Path) -> Pieces | None:
    """The pieces of a large file: its beginning, and some all over it; None where rows have no sure ends."""
    with path.open("rb") as file, mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ) as whole:
        begin = whole[:4096].lstrip(b"\xef\xbb\xbf \t\r\n")
        if whole[:2] in _OTHER_LETTERS or begin[:1] in (b"[", b"<"):
            return None
        walk = _Walk(whole, quoted=begin[:1] != b"{")
        if not walk.to_row_after(_FIRST):
            return None
        data, lines, line = [whole[: walk.place]], [(1, 1)], walk.line
        step = (len(whole) - walk.place) // _NUMBER
        for place in range(walk.place + step - _PIECE, len(whole), step):
            if place < walk.place or not walk.to_row_after(place):
                continue
            start, first = walk.place, walk.line
            walk.to_row_after(start + _PIECE)
            data.append(whole[start : walk.place])
            lines.append((line, first))
            line += walk.line - first
        return Pieces(b"".join(data), lines) if len(data) > _NUMBER // 2 else None


@dataclass
class _Walk:
    """Goes through a file, and knows at each place which line it is on, and whether it is within quotes."""

    whole: mmap.mmap
    quoted: bool
    place: int = 0
    line: int = 1
    inside: bool = False

    def to_row_after(self, place: int) -> bool:
        """Go on to the first row that begins behind this place; False, at the end, where none does."""
        self._go(min(place, len(self.whole)))
        for end in self._line_ends():
            self._go(end + 1)
            if not self.inside:
                return self.place < len(self.whole)
        self._go(len(self.whole))
        return False

    def _line_ends(self) -> Iterator[int]:
        while (end := self.whole.find(b"\n", self.place)) >= 0:
            yield end

    def _go(self, place: int) -> None:
        while self.place < place:
            passed = self.whole[self.place : min(place, self.place + _AT_ONCE)]
            self.line += passed.count(b"\n")
            if self.quoted and passed.count(b'"') % 2:
                self.inside = not self.inside
            self.place += len(passed)
