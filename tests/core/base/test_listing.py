"""Many names in short."""

from __future__ import annotations

import pytest

from keymallet.core.base.listing import and_more, how_many, shortened, some_names


@pytest.mark.parametrize(
    ("number", "told"),
    [(-1, ""), (0, ""), (1, "and 1 more rule"), (2, "and 2 more rules"), (1412, "and 1,412 more rules")],
)
def test_how_many_more(number: int, told: str) -> None:
    """Nothing where there are no more."""
    assert and_more(number, "rule") == told


def test_names_and_how_many_more() -> None:
    """The first three, and no tail where they are all."""
    assert some_names(["a", "b", "c"]) == "a, b, c"
    assert some_names(["a", "b", "c", "d"]) == "a, b, c and 1 more"
    assert some_names([]) == ""
    assert (how_many(1, "person", "people"), how_many(2, "person", "people")) == ("1 person", "2 people")
    assert (shortened("abcdef", 6), shortened("abcdefg", 6)) == ("abcdef", "abc…")
