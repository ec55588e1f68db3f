"""A zero that stands for "none" is none, whichever source gave it."""

from __future__ import annotations

from datetime import timedelta

import pytest

from keymallet.core.linking.settings_as_meant import ZERO_IS_NONE, take_settings_as_meant
from tests.support import RULES, bare_evidence, linked


@pytest.mark.parametrize("name", ZERO_IS_NONE)
def test_a_zero_is_none(name: str) -> None:
    """A threshold of no failure never locks; a lock for no time lasts until somebody ends it."""
    zero, some = (0, 5) if name == "lock-after" else (timedelta(), timedelta(minutes=5))
    rows = [{"setting": "a", name: zero}, {"setting": "b", name: some}, {"setting": "c", name: None}]
    found = take_settings_as_meant(linked(bare_evidence([], setting=rows)), RULES)
    assert found.tables["setting"][name].to_list() == [None, some, None]


def test_other_zeros_stay_as_they_are() -> None:
    """No earlier password is remembered, none has to be kept: these are figures."""
    rows = [{"setting": "a", "history": 0, "min-length": 0, "min-age": timedelta()}]
    kept = take_settings_as_meant(linked(bare_evidence([], setting=rows)), RULES).tables["setting"]
    assert kept.select("history", "min-length", "min-age").rows() == [(0, 0, timedelta())]
    assert take_settings_as_meant(linked(bare_evidence([{}])), RULES).frame
