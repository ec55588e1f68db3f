"""One JSON object: what was asked and how, then the rows as a list."""

from __future__ import annotations

import io
from collections.abc import Iterator

import msgspec

from keymallet.outputs.values import OutputRows, in_text


def write(rows: OutputRows) -> Iterator[bytes]:
    """The object: the head's own names, and the list of rows under theirs."""
    head = msgspec.json.encode(rows.head)
    comma = b"," if rows.head else b""
    name = msgspec.json.encode(rows.name)
    yield head[:-1] + comma + name + b":["
    between = b""
    for part in filter(len, rows.parts):
        buffer = io.BytesIO()
        in_text(part).write_json(buffer)
        yield between + buffer.getvalue()[1:-1]
        between = b","
    yield b"]}\n"
