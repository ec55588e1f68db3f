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
    """The XML. What is unproven or was not seen is skipped; a rule that all meet is one case that passes."""
    of_rule: dict[str, list[dict[str, Any]]] = {rule.id: [] for rule in content.rules}
    for row in content.findings.iter_rows(named=True):
        of_rule.setdefault(row["rule"], []).append(row)
    whole = ElementTree.Element("testsuites", name=plain(f"{content.organisation}: {content.rulebook}"))
    totals = [0, 0, 0]
    for place, rule in enumerate(content.rules):
        suite, numbers = _suite(rule, of_rule[rule.id])
        if place == 0:
            # The format has no place for what holds of all suites: the first one says it.
            _say(suite[0], basis(content))
        totals = [total + number for total, number in zip(totals, numbers, strict=True)]
        whole.append(suite)
    for name, number in zip(("tests", "failures"), totals, strict=False):
        whole.set(name, str(number))
    ElementTree.indent(whole)
    data: bytes = ElementTree.tostring(whole, encoding="utf-8", xml_declaration=True)
    return data + b"\n"


def _suite(rule: RuleLine, rows: list[dict[str, Any]]) -> tuple[ElementTree.Element, tuple[int, int, int]]:
    suite = ElementTree.Element("testsuite", name=plain(rule.id))
    properties = ElementTree.SubElement(suite, "properties")
    _say(properties, (("title", rule.title), ("severity", rule.severity)))
    failed = skipped = 0
    for row in rows:
        if row["state"] in (str(State.NOT_SEEN), str(State.EXEMPT)):
            # The schema lets a skipped case say nothing: its name has to.
            ElementTree.SubElement(_case(suite, rule, f"{who(row)} ({row['state']})"), "skipped")
            skipped += 1
            continue
        case = _case(suite, rule, who(row))
        failure = ElementTree.SubElement(
            case, "failure", type=plain(row["severity"]), message=plain(row["because"] or row["title"])
        )
        failure.text = plain(row["change"] or "")
        failed += 1
    if rule.unproven:
        ElementTree.SubElement(_case(suite, rule, f"{rule.unproven:,} unproven"), "skipped")
        skipped += 1
    if not rows and not rule.unproven:
        _case(suite, rule, f"all {rule.in_scope:,} meet it")
    tests = len(suite.findall("testcase"))
    for name, number in (("tests", tests), ("failures", failed), ("errors", 0), ("skipped", skipped)):
        suite.set(name, str(number))
    return suite, (tests, failed, skipped)


def _say(properties: ElementTree.Element, told: Iterable[tuple[str, str]]) -> None:
    for name, value in told:
        ElementTree.SubElement(properties, "property", name=plain(name), value=plain(value))


def _case(suite: ElementTree.Element, rule: RuleLine, name: str) -> ElementTree.Element:
    return ElementTree.SubElement(suite, "testcase", name=plain(name), classname=plain(rule.id), time="0")
