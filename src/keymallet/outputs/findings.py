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
from keymallet.outputs.frames import frame_csv, frame_json, frame_json_lines


def to_csv(findings: pl.DataFrame, run: Run, spreadsheet: bool) -> bytes:
    """RFC 4180 CSV with a header; see `frame_csv`."""
    return frame_csv(findings, spreadsheet=spreadsheet)


def to_json(findings: pl.DataFrame, run: Run, spreadsheet: bool) -> bytes:
    """One object: what is known of the run, and the list of findings."""
    return frame_json(run_record(run), "findings", findings)


def to_json_lines(findings: pl.DataFrame, run: Run, spreadsheet: bool) -> bytes:
    """One finding a line."""
    return frame_json_lines(findings)


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
