"""What is missing where it cannot be told of a way in, and how figures are written."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import polars as pl
import pytest

from keymallet.core.explaining.findings import findings
from keymallet.core.facts.wording import spans
from tests.support import evidence, judged, rule

USABLE = rule("no way-in (open)")
KNOWN = {
    "enabled": True,
    "has_password": False,
    "locked": False,
    "ends": None,
    "second_factor_required": True,
}
A_KEY = {"of": 0, "key": "k", "kind": "ssh-key", "state": "active", "expires": None}


def missing(account: dict[str, Any], **tables: Any) -> str:
    """What is said to be missing of the ways into one account."""
    world = evidence([KNOWN | {"remote_key": True, "remote_password": False} | account], **tables)
    (found,) = findings(judged(world, USABLE)).rows(named=True)
    return ", ".join(found["missing"])


@pytest.mark.parametrize(
    ("account", "key", "told"),
    [
        ({"enabled": None}, {}, "enabled"),
        ({"locked": None}, {}, "locked"),
        ({}, {"state": None}, "key.state"),
    ],
)
def test_only_what_is_missing_is_named(account: dict[str, Any], key: dict[str, Any], told: str) -> None:
    """Neither what is known beside it, nor what another kind of way would need."""
    said = missing(account, key=[A_KEY | key], factor=[])
    assert said == f"{told} (not known in d)"


def test_keys_that_were_not_read_are_named_as_such() -> None:
    """Nothing is said of another account that might prove it."""
    said = missing({}, key=[{"of": 0, "unread": ["*"]}], factor=[])
    assert said == "key (not known in d)"


def test_lengths_are_cut_and_never_rounded_up() -> None:
    """Just under two minutes are 119 seconds; from two of a unit on, that unit is used."""
    lengths = [timedelta(seconds=119, microseconds=999_999), timedelta(minutes=2), timedelta(hours=47)]
    assert spans(pl.Series(lengths, dtype=pl.Duration("us"))).to_list() == ["119 s", "2 min", "47 h"]


def test_a_list_that_is_counted_is_named() -> None:
    """With its members, and without where there are none."""
    world = evidence([{"labels": ["a", "b"]}, {"labels": []}])
    found = findings(judged(world, rule("length(labels) = 1")))
    assert [text.split(";")[0] for text in found["because"]] == ["labels a, b (2)", "no labels"]
