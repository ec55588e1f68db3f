"""A large file, looked at in pieces from all over it, each of whole rows."""

from __future__ import annotations

import bisect
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

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
    """The pieces of a large file: its beginning, and some all over it; None where rows have no sure ends.

    Raises OSError if it cannot be read.
    """
    size = path.stat().st_size
    with path.open("rb") as file:
        begin = file.read(4096)
        first = begin.lstrip(b"\xef\xbb\xbf \t\r\n")[:1]
        if begin[:2] in _OTHER_LETTERS or first in (b"[", b"<"):
            return None
        walk = _Walk(file, size, quoted=first != b"{")
        if not walk.to_row_after(_FIRST):
            return None
        data, lines, line = [walk.read(0, walk.place)], [(1, 1)], walk.line
        step = (size - walk.place) // _NUMBER
        for place in range(walk.place + step - _PIECE, size, step):
            if place < walk.place or not walk.to_row_after(place):
                continue
            start, begins = walk.place, walk.line
            walk.to_row_after(start + _PIECE)
            data.append(walk.read(start, walk.place))
            lines.append((line, begins))
            line += walk.line - begins
        return Pieces(b"".join(data), lines) if len(data) > _NUMBER // 2 else None


@dataclass
class _Walk:
    """Goes through a file, and knows at each place which line it is on, and whether it is within quotes."""

    file: BinaryIO
    size: int
    quoted: bool
    place: int = 0
    line: int = 1
    inside: bool = False
    _window: tuple[int, bytes] = (0, b"")

    def to_row_after(self, place: int) -> bool:
        """Go on to the first row that begins behind this place; False, at the end, where none does."""
        self._go(min(place, self.size))
        while self._go_to_next_line():
            if not self.inside:
                return self.place < self.size
        return False

    def read(self, start: int, end: int) -> bytes:
        """What stands there."""
        self.file.seek(start)
        return self.file.read(end - start)

    def _go_to_next_line(self) -> bool:
        """Go to where the next line begins; False, at the end, where there is none."""
        while self.place < self.size:
            start, passed = self._window
            if not start <= self.place < start + len(passed):
                start, passed = self.place, self.read(self.place, self.place + _AT_ONCE)
                self._window = start, passed
                if not passed:
                    break  # it has become shorter meanwhile
            end = passed.find(b"\n", self.place - start)
            self._pass(passed[self.place - start : end + 1 if end >= 0 else None])
            if end >= 0:
                return True
        return False

    def _go(self, place: int) -> None:
        while self.place < place:
            passed = self.read(self.place, min(place, self.place + _AT_ONCE))
            if not passed:
                break
            self._pass(passed)

    def _pass(self, passed: bytes) -> None:
        self.line += passed.count(b"\n")
        if self.quoted and passed.count(b'"') % 2:
            self.inside = not self.inside
        self.place += len(passed)
