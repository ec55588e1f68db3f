"""A report as assessment results of the Open Security Controls Assessment Language (OSCAL 1.1).

A rule is a control that was reviewed, under its own id; what it was written after stands with it. A rule that
somebody falls short of is a finding that is not satisfied; each account that does is an observation.
"""

from __future__ import annotations

import re
import uuid
from collections.abc import Iterable, Iterator
from typing import Any

import polars as pl

from keymallet.core.base.printable import plain
from keymallet.core.history.columns import FINDING
from keymallet.core.history.states import BROKEN
from keymallet.reports.content import Content, RuleLine, basis, rows_of, who
from keymallet.reports.long_json import formatted, place_of_list
from keymallet.reports.registry import Look

VERSION = "1.1.3"
_IN_BREACH = frozenset(map(str, BROKEN))
_NAMES = uuid.UUID("4a6f6c2e-6f0b-5d53-9a51-7c5c0d2f8f13")
"""The namespace of our identifiers: the same run gives the same ones."""
_OURS = "https://keymallet.example/ns/oscal"


def write(content: Content, look: Look) -> Iterator[bytes]:
    """The document as JSON."""
    at = f"{content.at:%Y-%m-%dT%H:%M:%SZ}"
    observations, findings = place_of_list(), place_of_list()
    result: dict[str, Any] = {
        "uuid": _id(content, "result"),
        "title": plain(f"{content.organisation}: {content.rulebook}"),
        "description": plain(content.verdict()),
        "start": at,
        "end": at,
        "props": [_property(what, value) for what, value in basis(content)],
        "reviewed-controls": {
            "control-selections": [
                {
                    "description": "the rules of the rulebook, each a control by its own id",
                    "include-controls": [{"control-id": _control(rule.id)} for rule in content.rules],
                }
            ]
        },
    }
    result["props"] += [_property("limited to", said) for said in content.narrowed]
    # Lists that are there have to have members.
    lists: dict[str, Iterable[Any]] = {}
    if content.findings.height:
        result["observations"] = observations
        lists[observations] = (_observation(content, row, at) for row in rows_of(content.findings))
    states = content.findings.select("rule", "state", FINDING)
    broken = set(states["rule"].unique())
    # Of a rule by which all who were asked could not be judged there is nothing to say.
    told = [rule for rule in content.rules if rule.id in broken or not (rule.unproven or content.narrowed)]
    if told:
        result["findings"] = findings
        lists[findings] = (_finding(content, rule, states.filter(pl.col("rule") == rule.id)) for rule in told)
    if content.gaps:
        result["remarks"] = plain("The evidence is incomplete: " + "; ".join(content.gaps))
    document = {
        "assessment-results": {
            "uuid": _id(content, "document"),
            "metadata": {
                "title": plain(f"{content.organisation}: accounts judged by {content.rulebook}"),
                "last-modified": at,
                "version": f"run {content.run}",
                "oscal-version": VERSION,
            },
            # The rulebook is what was planned; there is no other plan to point to.
            "import-ap": {"href": f"#{_id(content, 'rulebook')}"},
            "results": [result],
            "back-matter": {
                "resources": [
                    {
                        "uuid": _id(content, "rulebook"),
                        "title": plain(content.rulebook),
                        "props": [
                            _property(each.what, f"{each.name} {each.digest}") for each in content.digests
                        ],
                    }
                ]
            },
        }
    }
    return formatted(document, lists)


def _finding(content: Content, rule: RuleLine, states: pl.DataFrame) -> dict[str, Any]:
    """How a rule came out; `states` are those of its findings."""
    found = set(states["state"])
    # What is exempt, or was not seen, is not in breach; it is not met either.
    status = {"state": "not-satisfied" if found else "satisfied"}
    if found and not found & _IN_BREACH:
        status |= {"reason": "other", "remarks": f"all that fall short are: {', '.join(sorted(found))}"}
    finding: dict[str, Any] = {
        "uuid": _id(content, f"rule {rule.id}"),
        "title": plain(rule.title),
        "description": plain(f"{rule.who or 'all'}: {rule.must}"),
        "props": [_property("severity", rule.severity), *(_property("after", cite) for cite in rule.cite)],
        "target": {"type": "objective-id", "target-id": _control(rule.id), "status": status},
    }
    if found:
        finding["related-observations"] = [
            {"observation-uuid": _observation_id(content, each)} for each in states[FINDING]
        ]
    if rule.advice:
        finding["remarks"] = plain(rule.advice)
    return finding


def _observation(content: Content, row: dict[str, Any], at: str) -> dict[str, Any]:
    told = {"finding": row["finding-id"], "state": row["state"], "severity": row["severity"]}
    told |= {"answers for it": row["answerer"], "cause": row["cause"]}
    for name in ("first-seen", "due"):
        told[name] = f"{row[name]:%Y-%m-%dT%H:%M:%SZ}" if row[name] else None
    observation: dict[str, Any] = {
        "uuid": _observation_id(content, row[FINDING]),
        "title": plain(who(row)),
        "description": plain(row["because"] or row["title"] or row["rule"]),
        "props": [_property(name, value) for name, value in told.items() if value],
        "methods": ["TEST"],
        "types": ["finding"],
        "collected": at,
    }
    if row["change"]:
        observation["remarks"] = plain(row["change"])
    return observation


def _property(name: str, value: str) -> dict[str, str]:
    return {"name": _token(name), "ns": _OURS, "value": plain(value).strip() or "none"}


def _control(rule: str) -> str:
    return _token(rule)


def _token(text: str) -> str:
    """A text as the format's tokens have to be."""
    found = re.sub(r"[^\w.-]+", "-", text).strip("-.")
    return found if re.match(r"[^\W\d]", found) else f"n-{found}"


def _observation_id(content: Content, finding: str) -> str:
    return _id(content, f"finding {finding}")


def _id(content: Content, what: str) -> str:
    """An identifier (UUID 5) of something of this run."""
    return str(uuid.uuid5(_NAMES, f"{content.head} {'; '.join(content.narrowed)} {what}"))
