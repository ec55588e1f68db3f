"""Lists of the words that hold, row by row, against going through them."""

from __future__ import annotations

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

from keymallet.core.base.word_lists import words_that_hold

TRUTHS = st.sampled_from([True, False, None])


@given(
    st.integers(0, 4).flatmap(
        lambda rows: st.lists(st.lists(TRUTHS, min_size=rows, max_size=rows), max_size=5)
    ),
    st.booleans(),
)
def test_row_by_row(columns: list[list[bool | None]], doubt: bool) -> None:
    """In their order; a list that may be longer is not known, where that is asked for."""
    rows = len(columns[0]) if columns else 2
    truths = [(f"w{place}", pl.Series(column, dtype=pl.Boolean)) for place, column in enumerate(columns)]
    expected = [
        None if doubt and any(column[row] is None for column in columns)
        else [f"w{place}" for place, column in enumerate(columns) if column[row]]
        for row in range(rows)
    ]  # fmt: skip
    assert words_that_hold(truths, rows, doubt=doubt).to_list() == expected


def test_more_words_than_one_number_holds() -> None:
    """A hundred and thirty, of which every third holds."""
    truths = [(str(place), pl.Series([place % 3 == 0, False])) for place in range(130)]
    assert words_that_hold(truths, 2).to_list() == [[str(place) for place in range(0, 130, 3)], []]
