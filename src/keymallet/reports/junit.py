"""A report as JUnit XML, for pipelines: a rule is a suite, what falls short of it a failed case."""

from __future__ import annotations

import xml.etree.ElementTree as ElementTree
from collections.abc import Iterable
from typing import Any

from keymallet.core.base.printable import plain
from keymallet.core.history.states import State
from keymallet.reports.content import Content, RuleLine, basis, who
from keymallet.reports.registry import Look


def write(content: Content, look: Look) -> bytes:
    """The XML. What is unproven or was not seen is skipped; a rule that all meet is one case that passes.

    The first suite is the evidence: each gap in it is an error, so that nobody takes what was not seen for
    clean.
    """
    of_rule: dict[str, list[dict[str, Any]]] = {rule.id: [] for rule in content.rules}
    for row in content.findings.iter_rows(named=True):
        of_rule.setdefault(row["rule"], []).append(row)
    whole = ElementTree.Element("testsuites", name=plain(f"{content.organisation}: {content.rulebook}"))
    whole.append(_evidence(content))
    for rule in content.rules:
        whole.append(_suite(rule, of_rule[rule.id]))
    for name in ("tests", "failures", "errors"):
        whole.set(name, str(sum(int(suite.get(name, 0)) for suite in whole)))
    ElementTree.indent(whole)
    data: bytes = ElementTree.tostring(whole, encoding="utf-8", xml_declaration=True)
    return data + b"\n"


def _evidence(content: Content) -> ElementTree.Element:
    """What the run rests on, as properties, and what is missing from it, as errors."""
    suite = ElementTree.Element("testsuite", name="evidence")
    _say(ElementTree.SubElement(suite, "properties"), (*basis(content), ("verdict", content.verdict())))
    for gap in content.gaps:
        case = _case(suite, "evidence", gap)
        ElementTree.SubElement(case, "error", type="incomplete", message=plain(gap))
    if not content.gaps:
        _case(suite, "evidence", "nothing is missing")
    return _counted(suite)


def _counted(suite: ElementTree.Element) -> ElementTree.Element:
    """The suite with how many cases it has, and how they came out."""
    counted = {"tests": "testcase", "failures": ".//failure", "errors": ".//error", "skipped": ".//skipped"}
    for name, path in counted.items():
        suite.set(name, str(len(suite.findall(path))))
    return suite


def _suite(rule: RuleLine, rows: list[dict[str, Any]]) -> ElementTree.Element:
    suite = ElementTree.Element("testsuite", name=plain(rule.id))
    properties = ElementTree.SubElement(suite, "properties")
    _say(properties, (("title", rule.title), ("severity", rule.severity)))
    for row in rows:
        if row["state"] in (str(State.NOT_SEEN), str(State.EXEMPT)):
            # The schema lets a skipped case say nothing: its name has to.
            ElementTree.SubElement(_case(suite, rule.id, f"{who(row)} ({row['state']})"), "skipped")
            continue
        case = _case(suite, rule.id, who(row))
        failure = ElementTree.SubElement(
            case, "failure", type=plain(row["severity"]), message=plain(row["because"] or row["title"])
        )
        failure.text = plain(row["change"] or "")
    if rule.unproven or rule.judged_nobody:
        unproven = f"{rule.unproven:,} unproven" if rule.unproven else "unproven for all"
        ElementTree.SubElement(_case(suite, rule.id, unproven), "skipped")
    elif not rows:
        _case(suite, rule.id, f"all {rule.in_scope:,} meet it")
    return _counted(suite)


def _say(properties: ElementTree.Element, told: Iterable[tuple[str, str]]) -> None:
    for name, value in told:
        ElementTree.SubElement(properties, "property", name=plain(name), value=plain(value))


def _case(suite: ElementTree.Element, of: str, name: str) -> ElementTree.Element:
    return ElementTree.SubElement(suite, "testcase", name=plain(name), classname=plain(of), time="0")
