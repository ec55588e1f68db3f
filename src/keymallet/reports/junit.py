"""A report as JUnit XML, for pipelines: a rule is a suite, what falls short of it a failed case."""

from __future__ import annotations

import xml.etree.ElementTree as ElementTree
from collections.abc import Iterable, Iterator
from typing import Any

import polars as pl

from keymallet.core.base.printable import plain
from keymallet.core.history.states import State
from keymallet.reports.content import Content, RuleLine, basis, rows_of, who
from keymallet.reports.registry import Look


def write(content: Content, look: Look) -> Iterator[bytes]:
    """The XML. What is unproven or was not seen is skipped; a rule that all meet is one case that passes.

    The first suite is the evidence: each gap in it is an error, so that nobody takes what was not seen for
    clean.
    """
    suites = [_evidence(content)]
    states = content.findings.select("rule", "state")
    suites += [_suite(rule, states.filter(pl.col("rule") == rule.id)["state"]) for rule in content.rules]
    whole = ElementTree.Element("testsuites", name=plain(f"{content.organisation}: {content.rulebook}"))
    for name in ("tests", "failures", "errors"):
        whole.set(name, str(sum(int(suite.get(name, 0)) for suite in suites)))
    start, end = _around(whole)
    yield b"<?xml version='1.0' encoding='utf-8'?>\n" + start + _indented(suites[0], 1)
    for rule, suite in zip(content.rules, suites[1:], strict=True):
        of_rule, end_of_rule = _around(suite, 1)
        yield of_rule
        for row in rows_of(content.findings.filter(pl.col("rule") == rule.id)):
            yield _indented(_of_finding(rule, row), 2)
        yield end_of_rule
    yield end + b"\n"


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


def _counted(
    suite: ElementTree.Element, more: int = 0, failures: int = 0, skipped: int = 0
) -> ElementTree.Element:
    """The suite with how many cases it has, and how they came out; so many `more` than stand in it."""
    counted = {"tests": "testcase", "failures": ".//failure", "errors": ".//error", "skipped": ".//skipped"}
    besides = {"tests": more, "failures": failures, "skipped": skipped}
    for name, path in counted.items():
        suite.set(name, str(len(suite.findall(path)) + besides.get(name, 0)))
    return suite


def _suite(rule: RuleLine, states: pl.Series) -> ElementTree.Element:
    """The suite of a rule, with how many cases it has, but for the cases of its findings.

    `states` are those of its findings.
    """
    suite = ElementTree.Element("testsuite", name=plain(rule.id))
    properties = ElementTree.SubElement(suite, "properties")
    _say(properties, (("title", rule.title), ("severity", rule.severity)))
    if rule.unproven or rule.judged_nobody:
        unproven = f"{rule.unproven:,} unproven" if rule.unproven else "unproven for all"
        ElementTree.SubElement(_case(suite, rule.id, unproven), "skipped")
    elif not len(states):
        _case(suite, rule.id, f"all {rule.in_scope:,} meet it")
    skipped = int(states.is_in(_SKIPPED).sum())
    return _counted(suite, len(states), len(states) - skipped, skipped)


def _of_finding(rule: RuleLine, row: dict[str, Any]) -> ElementTree.Element:
    """The case of a finding."""
    if row["state"] in _SKIPPED:
        # The schema lets a skipped case say nothing: its name has to.
        skipped = _new_case(rule.id, f"{who(row)} ({row['state']})")
        ElementTree.SubElement(skipped, "skipped")
        return skipped
    case = _new_case(rule.id, who(row))
    failure = ElementTree.SubElement(
        case, "failure", type=plain(row["severity"]), message=plain(row["because"] or row["title"])
    )
    failure.text = plain(row["change"] or "")
    return case


_SKIPPED = [str(State.NOT_SEEN), str(State.EXEMPT)]


def _say(properties: ElementTree.Element, told: Iterable[tuple[str, str]]) -> None:
    for name, value in told:
        ElementTree.SubElement(properties, "property", name=plain(name), value=plain(value))


def _case(suite: ElementTree.Element, of: str, name: str) -> ElementTree.Element:
    case = _new_case(of, name)
    suite.append(case)
    return case


def _new_case(of: str, name: str) -> ElementTree.Element:
    return ElementTree.Element("testcase", name=plain(name), classname=plain(of), time="0")


def _around(element: ElementTree.Element, level: int = 0) -> tuple[bytes, bytes]:
    """What stands before, and what behind, the members that are still to come into an element."""
    marker = ElementTree.Element("to-come")
    # The properties of a suite stand first.
    element.insert(len(element.findall("properties")), marker)
    before, _, behind = _indented(element, level).partition(b"\n" + _BLANKS * (level + 1) + b"<to-come />")
    return before, behind


def _indented(element: ElementTree.Element, level: int) -> bytes:
    """An element on lines of its own, so many levels below the first."""
    ElementTree.indent(element, level=level)
    element.tail = None
    written: bytes = ElementTree.tostring(element, encoding="utf-8")
    return (b"\n" if level else b"") + _BLANKS * level + written


_BLANKS = b"  "
