"""A report as one JSON object, whose schema ships: what it rests on, the rules, and each finding."""

from __future__ import annotations

from typing import Any

import msgspec

from keymallet.reports.content import Content
from keymallet.reports.registry import Look

SCHEMA = "https://keymallet.example/schemas/report-1.json"
"""What the schema is called; it ships as `reports/report-1.schema.json` and is not fetched from anywhere."""
_FINDING = (
    *(
        "finding-id",
        "rule",
        "title",
        "severity",
        "verdict",
        "account",
        "subject",
        "display",
        "unit",
        "source",
    ),
    *("because", "change", "since", "until", "state", "first-seen", "due", "late-by", "times-back"),
    *("answerer", "answerer-mail", "cause"),
)


def write(content: Content, look: Look) -> bytes:
    """The object; instants as RFC 3339, how late something is in seconds, what is not known as null."""
    told = {
        "schema": SCHEMA,
        "organisation": content.organisation,
        "judged-at": content.at,
        "run": content.run,
        "head": content.head,
        "keymallet": content.keymallet,
        "rulebook": {"title": content.rulebook, "edition": content.edition},
        "digests": [msgspec.to_builtins(each) for each in content.digests],
        "snapshot-read-at": content.read_at,
        "limited-to": content.narrowed,
        "verdict": content.verdict(),
        "gaps": content.gaps,
        "unproven": None if content.narrowed else content.unproven,
        "records-not-read": None if content.narrowed else content.refused,
        "rules": [msgspec.to_builtins(rule) for rule in content.rules],
        "findings": [_finding(row) for row in content.findings.iter_rows(named=True)],
    }
    return msgspec.json.format(msgspec.json.encode(told)) + b"\n"


def _finding(row: dict[str, Any]) -> dict[str, Any]:
    told = {name: row[name] for name in _FINDING}
    late = told.pop("late-by")
    return {**told, "late-by-seconds": int(late.total_seconds()) if late else None}
