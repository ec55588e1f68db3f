"""Findings as CSV, JSON and JSON lines.

CSV and JSON lines hold one finding a line; what was judged, by which book and on which evidence
stands in each JSON file, and for the line formats in the `.run.json` file beside it.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import msgspec
import polars as pl

from keymallet.core.run import Run

_FORMULA = r"^[=+\-@\t\r]"


def to_csv(findings: pl.DataFrame, run: Run, spreadsheet: bool) -> bytes:
    """RFC 4180 CSV with a header. Lists are joined by " | ".

    With `spreadsheet`, a text that a spreadsheet would take for a formula gets an apostrophe in
    front; without, every value is exactly as it was read.
    """
    flat = _dated(findings).with_columns(pl.col(pl.List(pl.String)).list.join(" | "))
    if spreadsheet:
        text = pl.col(pl.String)
        flat = flat.with_columns(
            pl.when(text.str.contains(_FORMULA)).then("'" + text).otherwise(text).name.keep()
        )
    return flat.write_csv(line_terminator="\r\n").encode()


def to_json(findings: pl.DataFrame, run: Run, spreadsheet: bool) -> bytes:
    """One object: what is known of the run, and the list of findings."""
    head = msgspec.json.encode(run_record(run))
    return head[:-1] + b',"findings":' + _dated(findings).write_json().encode() + b"}\n"


def to_json_lines(findings: pl.DataFrame, run: Run, spreadsheet: bool) -> bytes:
    """One finding a line."""
    return _dated(findings).write_ndjson().encode()


def _dated(findings: pl.DataFrame) -> pl.DataFrame:
    """Instants as RFC 3339 writes them, in UTC and to the microsecond."""
    return findings.with_columns(pl.col(pl.Datetime("us", "UTC")).dt.strftime("%Y-%m-%dT%H:%M:%S%.6fZ"))


FORMATS: dict[str, Callable[[pl.DataFrame, Run, bool], bytes]] = {
    "csv": to_csv,
    "json": to_json,
    "jsonl": to_json_lines,
}


def run_record(run: Run) -> dict[str, Any]:
    """What every output carries, as JSON values."""
    return {
        "organisation": run.organisation,
        "judged-at": run.at,
        "rulebook": {
            "title": run.rulebook_title,
            "edition": run.rulebook_edition,
            "sha256": run.rulebook_digest,
        },
        "snapshot": {
            "gathered": run.gathered,
            "age-seconds": int((run.at - run.gathered).total_seconds()),
            "blake3": run.snapshot_digest,
            "accounts": run.accounts,
            "records-refused": run.refused,
            "cells-unreadable": run.unreadable,
        },
        "gaps": run.gaps,
        "rules": [
            {
                "rule": count.rule.id,
                "title": count.rule.title,
                "severity": count.rule.severity.word,
                "in-scope": count.in_scope,
                "met": count.met,
                "breach": count.breach,
                "pending": count.pending,
                "unproven": count.unproven,
            }
            for count in run.counts
        ],
    }


def to_run_file(run: Run) -> bytes:
    """The run alone, to stand beside a file of findings."""
    return msgspec.json.format(msgspec.json.encode(run_record(run))) + b"\n"
