"""The values that a limit is tried with."""

from __future__ import annotations

import pytest

from keymallet.core.studies.rehearse import MOST_STEPS, read_sweep


@pytest.mark.parametrize(
    ("written", "values"),
    [
        ("limit.n=3..9/3", (3, 6, 9)),
        ("limit.n=3..10/3", (3, 6, 9, 10)),
        ("limit.n=1..3", (1, 2, 3)),
        (f"limit.n=0..{MOST_STEPS}/1", tuple(range(MOST_STEPS + 1))),
        ("limit.age=1d..3d/1d", ("1d", "2d", "3d")),
        ("limit.age=30d..90d/30d", ("30d", "60d", "90d")),
        ("limit.age[visitor]=30d..90d/30d", ("30d", "60d", "90d")),
        ("limit.age=1h..2h/1h", ("3600000000us", "7200000000us")),
    ],
)
def test_a_sweep_goes_from_the_first_to_the_last(written: str, values: tuple[object, ...]) -> None:
    """The last is in it, whether the steps come out even or not."""
    sweep = read_sweep(written)
    assert sweep is not None and sweep.limit.shown == written[6:].partition("=")[0]
    assert sweep.values == values


@pytest.mark.parametrize(
    "written",
    [
        "limit.n=5..5", "limit.n=9..3", "limit.n=3..9/0", f"limit.n=0..{MOST_STEPS + 1}/1", "limit.n=3..x",
        "limit.n=x..3", "limit.n=3..9/x", "limit.n=3", "n=3..9", "limit.age=3d..3d", "limit.age=3d..1d",
        "limit.age=1d..900d/1d", "limit.age=1d..3d/0d", "limit.age=1d..3d/x",
        "limit.n=", "limit.n[]=1..3", "limit.n[a=1..3", "limit.[a]=1..3", "limit.n[a]b=1..3",
    ],
)  # fmt: skip
def test_what_is_no_sweep(written: str) -> None:
    """No stretch, no step, or more steps than anybody looks at."""
    assert read_sweep(written) is None
