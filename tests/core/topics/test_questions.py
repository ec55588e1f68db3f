"""A topic's questions with the limits of any book: those it has, those it lacks, those that are something else."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import pytest

from keymallet.core.topics.registry import TOPICS
from keymallet.core.topics.report import by_group
from tests.core.topics.support import of_each, report_of, sentences
from tests.support import AT, days_ago, evidence

ACCOUNT: dict[str, Any] = {
    "name": "a", "kind": "person", "enabled": True, "has_password": True, "password_changed": days_ago(50), "groups": [],
}  # fmt: skip
ODD = """
[limits]
password-age = 90
good-schemes = "30d"
password-length = "12d"
lock-after = "5d"
lock-for = 3
counted-within = true
opened-for = 8
right-unused = 2026-01-01
handed-out = ["a"]
session = 1
key-age = 3
"""
FOR_SOME = """
[limits]
lock-after = 10
lock-for = "30min"
password-length = 12
password-age = "180d"
handed-out = "3d"
key-age = "90d"
opened-for = "8h"
right-unused = "90d"

[limits.for.visitor]
lock-after = 3
lock-for = "1h"
password-length = 20
password-age = "30d"
handed-out = "1d"
key-age = "9d"
opened-for = "1h"
right-unused = "9d"

[terms]
visitor = "kind = guest"
"""


@pytest.mark.parametrize("topic", TOPICS)
@pytest.mark.parametrize("limits", ["", ODD, FOR_SOME], ids=["none", "of other kinds", "others for some"])
def test_any_book_will_do(topic: str, limits: str) -> None:
    """The view is there, whatever the book calls by these names."""
    setting = [{"setting": "s", "applies_to": ["everyone"], "lock_after": 9, "max_age": timedelta(days=99)}]
    found = evidence([ACCOUNT], setting=setting, key=[], grant=[], elevation=[], factor=[], sign_in=[])
    report = report_of(topic, found, limits)
    assert sentences(report) and set(report.rows["state"]) <= {state.word for state in report.states}


def test_a_limit_of_another_kind_is_not_the_limit() -> None:
    """Ninety of nothing in particular is no age."""
    found = evidence([ACCOUNT], setting=[])
    assert of_each(report_of("passwords", found, ODD), "limit by") == {"a": "no limit"}
    assert of_each(report_of("passwords", found, FOR_SOME), "limit by") == {"a": "the rulebook"}


def test_groups_of_one_badness_stand_by_name_and_nobody_last() -> None:
    """The largest first; of the same size by name; what has no group after those that have."""
    rows = [
        {"password_changed": AT, "has_password": True, "enabled": True, "unit": unit}
        for unit in ("Track", None, "Shop")
    ]
    found = report_of("passwords", evidence(rows))
    assert by_group(found, "unit")["unit"].to_list() == ["Shop", "Track", None]
