"""A report as JSON lines, whose schema ships: first a line of what it rests on, then one a finding."""

from __future__ import annotations

import msgspec
import polars as pl

from keymallet.outputs.values import in_text
from keymallet.reports import rows
from keymallet.reports.content import Content
from keymallet.reports.json_object import about
from keymallet.reports.registry import Look

SCHEMA = "https://keymallet.example/schemas/report-line-1.json"
"""What the schema is called; it ships as `reports/report-line-1.schema.json`."""


def write(content: Content, look: Look) -> bytes:
    """The lines. What kind each is, its `line` says: `report` or `finding`."""
    head = {"line": "report", **about(content), "schema": SCHEMA, "findings": content.findings.height}
    told = in_text(rows.table(content)).select(pl.lit("finding").alias("line"), pl.all())
    return msgspec.json.encode(head) + b"\n" + told.write_ndjson().encode()
