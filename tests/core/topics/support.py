"""A topic's report of evidence that is written in the test."""

from __future__ import annotations

from datetime import datetime

import polars as pl

from keymallet.core.facts.evidence import Evidence
from keymallet.core.topics.registry import TOPICS
from keymallet.core.topics.report import TopicReport, work_out
from keymallet.views.topic_words.registry import WORDS
from tests.support import AT, CLOCK, judged

ANY_RULE = '[rule.x]\ntitle = "X"\nseverity = "low"\nmust = "true"\n'


def report_of(topic: str, evidence: Evidence, limits: str = "", at: datetime = AT) -> TopicReport:
    """The report, with the limits and terms of a book that says nothing else."""
    judgement = judged(evidence, f"{limits}\n{ANY_RULE}", at)
    return work_out(TOPICS[topic], judgement, judgement.rulebook)


def of_each(report: TopicReport, column: str, key: str = "account") -> dict[str, object]:
    """One column of the report's rows, by account without its source."""
    return {name.removeprefix("d/"): value for name, value in report.rows.select(key, column).iter_rows()}


def worded(report: TopicReport) -> pl.DataFrame:
    """The rows as a terminal shows them, with what is worded for it."""
    return WORDS[report.topic].worded(report.rows, report, CLOCK)


def note(report: TopicReport, name: str) -> str:
    """The sentence beneath a table of the report."""
    (section,) = [section for section in report.sections if section.name == name]
    return WORDS[report.topic].sections[name].note(section, report)


def headline(report: TopicReport) -> str:
    """What is said of it in one line."""
    return WORDS[report.topic].headline(report)


def sentences(report: TopicReport) -> list[str]:
    """What people are told of it first."""
    return WORDS[report.topic].sentences(report, CLOCK)
