"""What every output of a run carries: who, when, by which book, on which evidence, and how it came out.

It stands in each JSON file, and for the line formats in the `.run.json` file beside it.
"""

from __future__ import annotations

from typing import Any

import msgspec

from keymallet.core.judging.run import Run


def run_record(run: Run) -> dict[str, Any]:
    """What every output carries, as JSON values."""
    return {
        "organisation": run.organisation,
        "judged-at": run.at,
        "rulebook": {
            "title": run.rulebook_title,
            "edition": run.rulebook_edition,
            "sha256": run.rulebook_digest,
            "files": run.rulebook_files,
        },
        "register": {"file": run.register_file, "sha256": run.register_digest} if run.register_file else None,
        "snapshot": {
            "read-at": run.read_at,
            "age-seconds": int((run.at - run.read_at).total_seconds()),
            "blake3": run.snapshot_digest,
            "accounts": run.accounts,
            "records-refused": run.refused,
            "cells-unreadable": run.unreadable,
        },
        "gaps": run.gaps,
        "accepted-gaps": run.accepted,
        "rules": [
            {
                "rule": count.rule.id,
                "title": count.rule.title,
                "severity": count.rule.severity.word,
                "topic": count.rule.topic or None,
                "in-scope": count.in_scope,
                "met": count.met,
                "breach": count.breach,
                "pending": count.pending,
                "exempt": count.exempt,
                "unproven": count.unproven,
            }
            for count in run.counts
        ],
    }


def to_run_file(run: Run) -> bytes:
    """The run alone, to stand beside a file of findings."""
    return msgspec.json.format(msgspec.json.encode(run_record(run))) + b"\n"
