"""A topic's report of evidence that is written in the test."""

from __future__ import annotations

from datetime import datetime

from keymallet.core.facts.evidence import Evidence
from keymallet.core.topics.registry import TOPICS
from keymallet.core.topics.report import TopicReport, work_out
from tests.support import AT, judged

ANY_RULE = '[rule.x]\ntitle = "X"\nseverity = "low"\nmust = "true"\n'


def report_of(topic: str, evidence: Evidence, limits: str = "", at: datetime = AT) -> TopicReport:
    """The report, with the limits and terms of a book that says nothing else."""
    return work_out(TOPICS[topic], judged(evidence, f"{limits}\n{ANY_RULE}", at))


def of_each(report: TopicReport, column: str, key: str = "account") -> dict[str, object]:
    """One column of the report's rows, by account without its source."""
    return {name.removeprefix("d/"): value for name, value in report.rows.select(key, column).iter_rows()}
