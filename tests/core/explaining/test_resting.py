"""What rests on which table: so that the most telling export is asked for first."""

from __future__ import annotations

from keymallet.core.explaining.untold import resting_on
from keymallet.core.rulebook.reading import read_rulebook

BOOK = """
title = "T"
[terms]
powerful = "some grant (privileged)"
[rule.a]
title = "Through a term"
who = "powerful"
must = "some factor (phishing-resistant)"
severity = "critical"
topic = "factors"
[rule.b]
title = "Worked out from the roster"
who = "enabled"
must = "on-roster"
severity = "low"
topic = "temporary"
[rule.c]
title = "Of keys, by their account's person"
each = "key"
who = "state = active"
must = "account.kind = person"
severity = "low"
topic = "temporary"
[rule.d]
title = "Of people"
each = "person"
who = "unit is known"
must = "name is known"
severity = "medium"
topic = "temporary"
"""


def test_rules_are_counted_by_the_tables_they_ask_of() -> None:
    """Through terms, owners and what is worked out; the graver weigh more."""
    found = resting_on(read_rulebook(BOOK, "t.toml"))
    rules = {table: resting.rules for table, resting in found.items()}
    assert {table: rules.get(table) for table in ("grant", "factor", "person", "key", "sign-in")} == {
        "grant": 1, "factor": 1, "person": 2, "key": 1, "sign-in": None,
    }  # fmt: skip
    assert found["factor"].weight > found["person"].weight > found["key"].weight
    assert found["person"].topics == {"temporary": 2}
