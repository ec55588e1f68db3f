"""What no honest file holds: bounds that keep one odd line from taking all memory."""

from __future__ import annotations

from keymallet.core.base.problems import KeymalletError, fail

LARGEST_RECORD = 64 << 20
"""Bytes; nothing that one account, person or line of a log has to say is as large."""


def endless_line(data: bytes, longest: int | None = None) -> int:
    """The number of the first line that is longer than `longest` bytes; 0 where none is.

    Looks at few bytes of a file: back from as far as a line may go to the nearest end of one.
    """
    longest = longest or LARGEST_RECORD
    start = 0
    while len(data) - start > longest:
        most = start + longest + 1
        end = max(data.rfind(b"\n", start, most), data.rfind(b"\r", start, most))
        if end < 0:
            return data.count(b"\n", 0, start) + 1
        start = end + 1
    return 0


def refuse_endless_lines(data: bytes, file: str) -> None:
    """Raises KeymalletError naming the line that is longer than any can be."""
    line = endless_line(data)
    if line:
        raise too_long(file, line)


def too_long(file: str, line: int) -> KeymalletError:
    """What is wrong with a line that is longer than any can be."""
    complaint = f"this line is longer than {LARGEST_RECORD >> 20} MB"
    return fail(complaint, file=file, line=line, hint="is the file damaged, or no export at all?")
