"""JSON lines: each row an object on a line of its own."""

from __future__ import annotations

from keymallet.outputs.values import OutputRows, in_text


def write(rows: OutputRows) -> bytes:
    """One object a line."""
    return in_text(rows.frame).write_ndjson().encode()
