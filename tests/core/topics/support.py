"""A topic's picture of evidence that is written in the test."""

from __future__ import annotations

from datetime import datetime

from keymallet.core.facts.evidence import Evidence
from keymallet.core.topics.picture import Picture, work_out
from keymallet.core.topics.registry import TOPICS
from tests.support import AT, judged

ANY_RULE = '[rule.x]\ntitle = "X"\nseverity = "low"\nmust = "true"\n'


def picture_of(topic: str, evidence: Evidence, limits: str = "", at: datetime = AT) -> Picture:
    """The picture, with the limits and terms of a book that says nothing else."""
    return work_out(TOPICS[topic], judged(evidence, f"{limits}\n{ANY_RULE}", at))


def of_each(picture: Picture, column: str, key: str = "account") -> dict[str, object]:
    """One column of the picture's rows, by account without its source."""
    return {name.removeprefix("d/"): value for name, value in picture.rows.select(key, column).iter_rows()}
