"""A report as JSON lines, whose schema ships: first a line of what it rests on, then one a finding."""

from __future__ import annotations

from collections.abc import Iterator

import msgspec
import polars as pl

from keymallet.outputs.formats import FORMATS
from keymallet.outputs.values import OutputRows
from keymallet.reports import rows
from keymallet.reports.content import Content
from keymallet.reports.json_object import about
from keymallet.reports.registry import Look

SCHEMA = "https://keymallet.example/schemas/report-line-1.json"
"""What the schema is called; it ships as `reports/report-line-1.schema.json`."""


def write(content: Content, look: Look) -> Iterator[bytes]:
    """The lines. What kind each is, its `line` says: `report` or `finding`."""
    head = {"line": "report", **about(content), "schema": SCHEMA, "findings": content.findings.height}
    yield msgspec.json.encode(head) + b"\n"
    parts = (part.select(pl.lit("finding").alias("line"), pl.all()) for part in rows.tables(content))
    yield from FORMATS["jsonl"].write(OutputRows(parts, {}, "findings"))
