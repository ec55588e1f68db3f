"""A large CSV file in blocks of whole records, each of which reads like a small file of its own."""

from __future__ import annotations

import csv
import io
from collections.abc import Collection
from dataclasses import dataclass
from pathlib import Path

from keymallet.core.base.problems import fail
from keymallet.sources.export.csv_rows import separator_of
from keymallet.sources.export.formats import Block, OnlyWholeError
from keymallet.sources.export.line_blocks import LineBlocks, beginning_of
from keymallet.sources.shared.limits import too_long


@dataclass
class CsvBlocks(LineBlocks):
    """The blocks of a CSV file, each with the header; none where lines end in a carriage return alone."""

    separator: str = ","

    def head(self, data: bytes) -> tuple[bytes | None, bytes]:
        """The line that names the columns."""
        end = data.find(b"\n") + 1
        return data[:end] or None, data[end:]

    def end_of_records(self, data: bytes) -> int:
        """Where the last record ends that is whole for sure; 0 if none is."""
        end = data.rfind(b"\n") + 1
        if b'"' in data[:end]:
            end = self._end_outside_quotes(data, end)
        if data.count(b"\r", 0, end) != data.count(b"\r\n", 0, end):
            # Then records end where lines do not.
            raise OnlyWholeError
        return end

    def _end_outside_quotes(self, data: bytes, end: int) -> int:
        """The same: only reading it tells whether a quote opens a cell or stands within one."""
        lines = data[:end].decode("utf-8", "replace")
        reader = csv.reader(io.StringIO(lines, newline="\n"), delimiter=self.separator, strict=True)
        whole = 0
        while True:
            try:
                next(reader)
            except StopIteration:
                whole = reader.line_num
                break
            except csv.Error as error:
                if "unexpected end of data" in str(error):
                    break
            whole = reader.line_num
        for _ in range(lines.count("\n") - whole):
            end = data.rfind(b"\n", 0, end - 1) + 1
        return end

    def endless(self, rest: bytes, line: int) -> Exception:
        """A line that is too long, or a quote that is never closed."""
        if b"\n" not in rest:
            return too_long(self.shown, line)
        return fail(
            "a quote opens in this record and is never closed: what follows cannot be separated",
            file=self.shown,
            line=line,
            hint='close the quote, or double it ("") where it is meant as text',
        )

    def last(self, block: Block) -> Block:
        """The last block; with a carriage return in it, it is not known where a record ends."""
        if block.data.count(b"\r") != block.data.count(b"\r\n"):
            raise OnlyWholeError
        return block


def blocks_of(
    path: Path,
    shown: str,
    *,
    encoding: str | None,
    separator: str | None,
    header_line: int | None,
    wanted: Collection[str],
) -> CsvBlocks | None:
    """The file in blocks; None where it is not large, or can only be read as a whole.

    That is where it is in another encoding than UTF-8, and where its first line does not name its columns.
    Raises KeymalletError where a column is missing.
    """
    beginning = beginning_of(path, encoding)
    header, end, _ = (beginning or b"").partition(b"\n")
    if header_line not in (None, 1) or not end or not header.strip():
        return None
    if header.count(b'"') % 2 or b"\r" in header.removesuffix(b"\r"):
        return None
    return CsvBlocks(path, shown, separator=separator_of(header, shown, separator, wanted))
