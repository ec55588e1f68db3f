"""How long mending took, by figures that a hand can check."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import polars as pl

from keymallet.core.history.trends import times_to_mend
from tests.support import AT

DAY = timedelta(days=1)
RUNS = {number: AT + number * DAY for number in range(12)}


def change(finding: str, run: int, state: str, severity: str = "high") -> dict[str, Any]:
    return {"finding-id": finding, "run": run, "state": state, "severity": severity, "first-seen": AT}


def test_from_the_run_that_saw_it_or_saw_it_again() -> None:
    """Mended after 2, 4 and 6 days: half within 4, nine in ten within 5.6; one that came back counts anew."""
    rows = [change(name, day, "mended") for name, day in (("a", 2), ("b", 4), ("c", 6))]
    rows += [change("d", 3, "mended", "low"), change("d", 7, "back", "low"), change("d", 8, "mended", "low")]
    rows += [change("e", 5, "account gone"), change("f", 1, "not seen")]
    told = times_to_mend(pl.DataFrame(rows), RUNS, AT).rows()
    assert told == [("high", 3, 4 * DAY, 5.6 * DAY), ("low", 2, 2 * DAY, 2.8 * DAY)]


def test_only_what_was_mended_since_then_counts() -> None:
    rows = [change("a", 2, "mended"), change("b", 9, "mended")]
    assert times_to_mend(pl.DataFrame(rows), RUNS, AT + 5 * DAY).rows() == [("high", 1, 9 * DAY, 9 * DAY)]
