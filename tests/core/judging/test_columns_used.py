"""Which facts a rule rests on: only these are read from a snapshot, and none of them may be missing."""

from __future__ import annotations

import pytest

from keymallet.core.evaluating.context import columns_used
from keymallet.core.rulebook.reading import read_rulebook
from tests.support import rule


@pytest.mark.parametrize(
    ("must", "each", "rests_on"),
    [
        ("enabled", "account", {"account": {"enabled"}}),
        ("no key (state = active)", "account", {"key": {"state"}}),
        # whose policy is in force is told by names, groups and kinds
        (
            "setting.min-length >= 12",
            "account",
            {"setting": {"min-length", "applies-to"}, "account": {"name", "groups", "kind", "source"}},
        ),
        ("account.enabled", "key", {"account": {"enabled"}}),
        ("person.status != left", "account", {"person": {"status"}, "account": {"person-row"}}),
        ("some account (enabled)", "person", {"account": {"enabled"}, "person": {"person"}}),
    ],
)
def test_what_a_rule_rests_on(must: str, each: str, rests_on: dict[str, set[str]]) -> None:
    """What it names, and what links the tables it asks."""
    book = read_rulebook(f'title = "T"\n{rule(must, each=each)}', "r.toml")
    used = columns_used(book.expressions())
    for table, columns in rests_on.items():
        assert columns <= used[table], used
    without = columns_used(read_rulebook(f'title = "T"\n{rule("true")}', "r.toml").expressions())
    assert not without.get("account") and "setting" not in without
