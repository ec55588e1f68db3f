"""A report as one JSON object, whose schema ships: what it rests on, the rules, and each finding."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import msgspec

from keymallet.reports import rows
from keymallet.reports.content import Content, rows_of
from keymallet.reports.long_json import formatted, place_of_list
from keymallet.reports.registry import Look

SCHEMA = "https://keymallet.example/schemas/report-1.json"
"""What the schema is called; it ships as `reports/report-1.schema.json` and is not fetched from anywhere."""


def write(content: Content, look: Look) -> Iterator[bytes]:
    """The object; instants as RFC 3339, how late something is in seconds, what is not known as null."""
    findings = place_of_list()
    told = {
        **about(content),
        "rules": [_named_as_elsewhere(msgspec.to_builtins(rule)) for rule in content.rules],
        "findings": findings,
    }
    return formatted(told, {findings: (row for part in rows.tables(content) for row in rows_of(part))})


def _named_as_elsewhere(told: dict[str, Any]) -> dict[str, Any]:
    return {name.replace("_", "-"): value for name, value in told.items()}


def about(content: Content) -> dict[str, Any]:
    """What the report is of, and what it rests on."""
    return {
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
    }
