"""JSON lines: each row an object on a line of its own."""

from __future__ import annotations

import io
from collections.abc import Iterator

from keymallet.outputs.values import OutputRows, in_text


def write(rows: OutputRows) -> Iterator[bytes]:
    """One object a line."""
    for part in rows.parts:
        buffer = io.BytesIO()
        in_text(part).write_ndjson(buffer)
        yield buffer.getvalue()
