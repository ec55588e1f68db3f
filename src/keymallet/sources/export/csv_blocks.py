"""A large CSV file in blocks of whole records, each of which reads like a small file of its own."""

from __future__ import annotations

import csv
import io
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from pathlib import Path

from blake3 import blake3

from keymallet.core.base.problems import fail
from keymallet.sources.export.csv_rows import separator_of
from keymallet.sources.export.formats import Block, OnlyWholeError
from keymallet.sources.shared.limits import LARGEST_RECORD, too_long

LARGE = 256 << 20
"""Bytes from which on a file is read in blocks."""
BLOCK = 32 << 20
"""Bytes of a block, about."""
_UTF16 = (b"\xff\xfe", b"\xfe\xff")
_BOM = b"\xef\xbb\xbf"


@dataclass
class CsvBlocks:
    """The blocks of a file, to be gone through as often as need be; `shown` is what it is called.

    `digest` is that of the whole file, once that was read to its end.
    """

    path: Path
    shown: str
    separator: str
    digest: str = ""
    size: int = 0

    def __iter__(self) -> Iterator[Block]:
        """Raises KeymalletError if the file cannot be read, or a record is longer than any can be.

        Raises OnlyWholeError where lines end in a carriage return alone: then records end where lines do not.
        """
        digest, self.size = blake3(max_threads=blake3.AUTO), 0
        header, rest, line = b"", b"", 0
        try:
            with self.path.open("rb") as file:
                while coming := file.read(BLOCK):
                    digest.update(coming)
                    self.size += len(coming)
                    data = rest + coming
                    if not header:
                        data = data.removeprefix(_BOM)
                        end = data.find(b"\n") + 1
                        header, data, line = data[:end], data[end:], 1
                    end = self._end_of_records(data)
                    if end:
                        if data.count(b"\r", 0, end) != data.count(b"\r\n", 0, end):
                            raise OnlyWholeError
                        yield Block(header + data[:end], line - 1)
                        line += data.count(b"\n", 0, end)
                    rest = data[end:]
                    if len(rest) > LARGEST_RECORD:
                        raise self._endless(rest, line)
        except OSError as error:
            raise fail(f"the file cannot be read: {error.strerror or error}", file=self.shown) from None
        self.digest = digest.hexdigest()
        if rest or line == 1:
            if b"\r" in rest:
                raise OnlyWholeError
            yield Block(header + rest, line - 1)

    def _end_of_records(self, data: bytes) -> int:
        """Where the last record ends that is whole for sure; 0 if none is."""
        end = data.rfind(b"\n") + 1
        if b'"' not in data[:end]:
            return end
        # Only reading it tells whether a quote opens a cell or stands within one.
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

    def _endless(self, rest: bytes, line: int) -> Exception:
        if b"\n" not in rest:
            return too_long(self.shown, line + 1)
        return fail(
            "a quote opens in this record and is never closed: what follows cannot be separated",
            file=self.shown,
            line=line + 1,
            hint='close the quote, or double it ("") where it is meant as text',
        )


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
    try:
        if path.stat().st_size < LARGE:
            return None
        with path.open("rb") as file:
            beginning = file.read(1 << 20)
    except OSError:
        return None
    plain = encoding is None or encoding.lower().replace("_", "-") in ("utf-8", "utf8")
    header, end, _ = beginning.removeprefix(_BOM).partition(b"\n")
    if not plain or beginning.startswith(_UTF16) or header_line not in (None, 1) or not end:
        return None
    if not header.strip() or header.count(b'"') % 2 or b"\r" in header.removesuffix(b"\r"):
        return None
    return CsvBlocks(path, shown, separator_of(header, shown, separator, wanted))
