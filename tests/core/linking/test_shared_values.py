"""Which accounts a shared value is said to be shared with is the same each time."""

from __future__ import annotations

import polars as pl
from polars.testing import assert_frame_equal

from keymallet.core.facts.evidence import ACCOUNT_ROW
from keymallet.core.facts.reading import Reading
from keymallet.core.linking.linked import LinkedReadings
from keymallet.core.linking.shared_values import MOST_SHARED, mark_shared_keys
from tests.support import passed


def test_the_first_ones_are_named_however_many_there_are() -> None:
    """Of many, column operations hand rows over in the order in which threads are done."""
    number, values = 60_000, 700
    names = [f"u{n:05}" for n in range(number)]
    accounts = pl.DataFrame({"name": names, "source": "d", "account": [f"d/{name}" for name in names]})
    rows = pl.DataFrame(
        {
            ACCOUNT_ROW: pl.int_range(number, dtype=pl.UInt32, eager=True),
            "digest": [f"{n % values:08x}" for n in range(number)],
        }
    )
    supply = {"account": {"name": "d"}, "key": {"digest": "d"}}
    given = LinkedReadings((Reading("d", supply=supply),), {"account": accounts, "key": rows})
    marked = passed(mark_shared_keys, given).tables["key"]
    first = [f"d/u{values * k:05}" for k in range(MOST_SHARED + 1)]
    assert marked["shared-with"][0].to_list() == first[1:]
    assert marked["shared-with"][values * 50].to_list() == first[:MOST_SHARED]
    for _ in range(3):
        assert_frame_equal(passed(mark_shared_keys, given).tables["key"], marked)
