"""Which accounts a shared value is said to be shared with is the same each time."""

from __future__ import annotations

import polars as pl
from polars.testing import assert_frame_equal

from keymallet.core.facts.evidence import ACCOUNT_ROW
from keymallet.core.linking.shared_values import MOST_SHARED, _with_sharers


def test_the_first_ones_are_named_however_many_there_are() -> None:
    """Of many, column operations hand rows over in the order in which threads are done."""
    number, values = 60_000, 700
    accounts = pl.DataFrame(
        {"account": [f"d/u{n}" for n in range(number)], "name": [f"u{n}" for n in range(number)]}
    )
    rows = pl.DataFrame(
        {
            ACCOUNT_ROW: pl.int_range(number, dtype=pl.UInt32, eager=True),
            "digest": [f"{n % values:08x}" for n in range(number)],
        }
    )
    marked, shared = _with_sharers(rows, accounts, "digest")
    assert shared.height == number
    first = [f"d/u{values * k}" for k in range(MOST_SHARED + 1)]
    assert marked["shared-with"][0].to_list() == first[1:]
    assert marked["shared-with"][values * 50].to_list() == first[:MOST_SHARED]
    for _ in range(3):
        assert_frame_equal(_with_sharers(rows, accounts, "digest")[0], marked)
