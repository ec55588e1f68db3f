"""What the tests of changes share: rules in a line each, and the breaches that a real reading and judging finds."""

from __future__ import annotations

import csv
import io
import json
from pathlib import Path

from tests.support import run


def rule(name: str, must: str, severity: str, mend: str, **more: str) -> str:
    """A rule as a rulebook writes it."""
    told = {"title": name, "must": must, "severity": severity, "mend": mend, "advice": "Do.", **more}
    return f"[rule.{name}]\n" + "".join(f"{key} = {json.dumps(value)}\n" for key, value in told.items())


def breaches(folder: Path, **environment: str) -> set[tuple[str, str, str]]:
    """Rule, account and subject of each breach, once the estate is read anew."""
    run("read", cwd=folder, **environment)
    rows = csv.DictReader(io.StringIO(run("judge", "--format", "csv", cwd=folder).stdout))
    return {(row["rule"], row["account"], row["subject"]) for row in rows if row["verdict"] == "breach"}
