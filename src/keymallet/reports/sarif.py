"""A report as SARIF 2.1.0 (OASIS), for dashboards of code scanning: what a fact came from is the place.

The place of a finding is the file its account or row was read from, and the line where that can be told.
Files are named from the folder of the estate file.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any
from urllib.parse import quote

from keymallet.core.base.printable import plain
from keymallet.reports.content import Content, RuleLine, basis, rows_of, who
from keymallet.reports.long_json import formatted, place_of_list
from keymallet.reports.registry import Look

_LEVEL = {"critical": "error", "high": "error", "medium": "warning", "low": "note"}
_RANK = {"critical": 100.0, "high": 75.0, "medium": 50.0, "low": 25.0}
_FOLDER = "ESTATE"
_NEW = ("new", "back", "exemption ended")


def write(content: Content, look: Look) -> Iterator[bytes]:
    """The log, with one run in it."""
    results = place_of_list()
    at = f"{content.at:%Y-%m-%dT%H:%M:%S.%fZ}"
    index = {rule.id: place for place, rule in enumerate(content.rules)}
    run: dict[str, Any] = {
        "tool": {
            "driver": {
                "name": "Keymallet",
                "version": content.keymallet,
                "rules": [_rule(rule) for rule in content.rules],
            }
        },
        "automationDetails": {"id": plain(f"{content.organisation}/{content.rulebook}/run {content.run}")},
        "originalUriBaseIds": {_FOLDER: {"description": {"text": "the folder of the estate file"}}},
        "columnKind": "unicodeCodePoints",
        "invocations": [
            {
                "executionSuccessful": True,
                "endTimeUtc": at,
                "toolExecutionNotifications": [
                    {"level": "warning", "message": {"text": plain(f"The evidence is incomplete: {gap}")}}
                    for gap in content.gaps
                ]
                + [
                    {"level": "warning", "message": {"text": plain(f"Judged for nobody: {rule.id}")}}
                    for rule in content.not_judged
                ],
            }
        ],
        "properties": {what: plain(value) for what, value in basis(content)},
        "results": results,
    }
    run["properties"]["verdict"] = content.verdict()
    if content.narrowed:
        run["properties"]["limited to"] = [plain(said) for said in content.narrowed]
    log = {
        "$schema": "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json",
        "version": "2.1.0",
        "runs": [run],
    }
    told = (_result(content, row, index.get(row["rule"], -1)) for row in rows_of(content.findings))
    return formatted(log, {results: told})


def _rule(rule: RuleLine) -> dict[str, Any]:
    told: dict[str, Any] = {
        "id": rule.id,
        "shortDescription": {"text": plain(rule.title)},
        "fullDescription": {"text": plain(f"{rule.who or 'all'} must: {rule.must}")},
        "defaultConfiguration": {"level": _LEVEL[rule.severity], "rank": _RANK[rule.severity]},
        "properties": {"severity": rule.severity, "tags": [rule.topic or "other", *map(plain, rule.cite)]},
    }
    if rule.advice:
        told["help"] = {"text": plain(rule.advice)}
    return told


def _result(content: Content, row: dict[str, Any], index: int) -> dict[str, Any]:
    seen = row["state"] != "not seen"
    said = f"{who(row)}: {row['because'] or row['title'] or row['rule']}"
    result: dict[str, Any] = {
        "ruleId": row["rule"],
        "kind": "fail" if seen else "review",
        "level": _LEVEL[row["severity"]] if seen else "none",
        "rank": _RANK[row["severity"]],
        "message": {"text": plain(said)},
        "locations": [_location(content, row)],
        "partialFingerprints": {"keymalletFinding/v1": row["finding-id"]},
        "baselineState": "new" if row["state"] in _NEW else "unchanged",
        "properties": {
            name: plain(value)
            for name in ("state", "severity", "unit", "answerer", "cause", "change")
            if (value := row[name])
        },
    }
    if index >= 0:
        result["ruleIndex"] = index
    if row["due"]:
        result["properties"]["due"] = f"{row['due']:%Y-%m-%dT%H:%M:%SZ}"
    if row["state"] == "exempt":
        reason = "exempt by the register"
        result["suppressions"] = [{"kind": "external", "status": "accepted", "justification": reason}]
    return result


def _location(content: Content, row: dict[str, Any]) -> dict[str, Any]:
    name = plain(row["account"] or "all accounts")
    location: dict[str, Any] = {"logicalLocations": [{"fullyQualifiedName": name, "kind": "account"}]}
    place = content.places.get(row["finding-id"])
    if place is not None:
        file, line = place
        physical: dict[str, Any] = {"artifactLocation": {"uri": quote(file), "uriBaseId": _FOLDER}}
        if line:
            physical["region"] = {"startLine": line}
        location["physicalLocation"] = physical
    return location
