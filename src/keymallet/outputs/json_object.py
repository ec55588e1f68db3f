"""One JSON object: what was asked and how, then the rows as a list."""

from __future__ import annotations

import msgspec

from keymallet.outputs.values import OutputRows, in_text


def write(rows: OutputRows) -> bytes:
    """The object: the head's own names, and the list of rows under theirs."""
    head = msgspec.json.encode(rows.head)
    comma = b"," if rows.head else b""
    name = msgspec.json.encode(rows.name)
    return head[:-1] + comma + name + b":" + in_text(rows.frame).write_json().encode() + b"}\n"
