"""Documents whose lists are written piece by piece are the very bytes that they would be in one piece."""

from __future__ import annotations

from typing import Any

import msgspec
import pytest

from keymallet.reports import long_json
from keymallet.reports.long_json import formatted, place_of_list


@pytest.mark.parametrize("numbers", [(0, 0), (1, 0), (0, 1), (3, 2), (7, 6)])
def test_the_same_bytes(numbers: tuple[int, int], monkeypatch: pytest.MonkeyPatch) -> None:
    """At different depths, empty or not, of fewer or more members than are written at once."""
    monkeypatch.setattr(long_json, "_AT_ONCE", 3)
    first, second = (
        [{"of": place, "in": [n, {"ü": 'a\n  "]'}], "none": [], "nothing": {}} for n in range(number)]
        for place, number in enumerate(numbers)
    )

    def document(one: Any, other: Any) -> Any:
        return {"before": [1, {"a": one}], "deep": {"er": {"list": other, "after": None}}, "text": "\u2028"}

    places = place_of_list(), place_of_list()
    lists = dict(zip(places, (iter(first), iter(second)), strict=True))
    written = b"".join(formatted(document(*places), lists))
    assert written == msgspec.json.format(msgspec.json.encode(document(first, second))) + b"\n"
