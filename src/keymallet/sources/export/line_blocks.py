"""A large file in blocks that end with a line."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from blake3 import blake3

from keymallet.core.base.problems import fail
from keymallet.sources.export.formats import Block, OnlyWholeError
from keymallet.sources.shared.limits import LARGEST_RECORD

LARGE = 256 << 20
"""Bytes from which on a file is read in blocks."""
BLOCK = 32 << 20
"""Bytes of a block, about."""
UTF8_MARK = b"\xef\xbb\xbf"
_UTF16_MARKS = (b"\xff\xfe", b"\xfe\xff")
_BEGINNING = 1 << 20


@dataclass
class LineBlocks:
    """The blocks of a file with a record in each line; `shown` is what it is called.

    `digest` is that of the whole file, once that was read to its end.
    """

    path: Path
    shown: str
    digest: str = ""
    size: int = 0

    def __iter__(self) -> Iterator[Block]:
        """Raises KeymalletError if the file cannot be read, or OnlyWholeError if it has to be read whole."""
        digest, self.size = blake3(max_threads=blake3.AUTO), 0
        head, rest, above = None, b"", 0
        try:
            with self.path.open("rb") as file:
                while coming := file.read(BLOCK):
                    digest.update(coming)
                    self.size += len(coming)
                    data = rest + coming
                    if head is None:
                        head, data = self.head(data.removeprefix(UTF8_MARK))
                    end = 0 if head is None else self.end_of_records(data)
                    if head is not None and end:
                        yield Block(head + data[:end], above)
                        above += data.count(b"\n", 0, end)
                    rest = data[end:]
                    if len(rest) > LARGEST_RECORD:
                        raise self.endless(rest, above + (head or b"").count(b"\n") + 1)
        except OSError as error:
            raise fail(f"the file cannot be read: {error.strerror or error}", file=self.shown) from None
        self.digest = digest.hexdigest()
        if rest or not above:
            yield self.last(Block((head or b"") + rest, above))

    def head(self, data: bytes) -> tuple[bytes | None, bytes]:
        """What stands above the records and goes with every block, and the rest; None if more of it comes."""
        return b"", data

    def end_of_records(self, data: bytes) -> int:
        """Where the last record ends that is whole for sure; 0 if none is."""
        return data.rfind(b"\n") + 1

    def endless(self, rest: bytes, line: int) -> Exception:
        """What is wrong with a record that does not come to an end; it begins on this line."""
        return OnlyWholeError()

    def last(self, block: Block) -> Block:
        """The last block, which may end without a line's end."""
        return block


def beginning_of(path: Path, encoding: str | None) -> bytes | None:
    """The beginning of a file that is large, and in UTF-8 as far as is told; else None."""
    try:
        if path.stat().st_size < LARGE:
            return None
        with path.open("rb") as file:
            beginning = file.read(_BEGINNING)
    except OSError:
        return None
    plain = encoding is None or encoding.lower().replace("_", "-") in ("utf-8", "utf8")
    return beginning.removeprefix(UTF8_MARK) if plain and not beginning.startswith(_UTF16_MARKS) else None
