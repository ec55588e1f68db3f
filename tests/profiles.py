"""How long property tests look: a few examples in `make test`, many in `make test-deep`.

The profile is chosen by the environment variable KEYMALLET_TESTS: `quick` (the default), `deep`, or `short`, for
when the whole area is run for each of many mutations.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable
from typing import TypeVar

import pytest
from hypothesis import HealthCheck, Phase, settings

PROFILE = os.environ.get("KEYMALLET_TESTS", "quick")
FACTORS = {"short": 0.15, "quick": 0.2, "deep": 5}
"""So many times the examples that a test asks for."""

F = TypeVar("F", bound=Callable[..., object])

# No deadline and no check of how fast examples are made: a busy machine is no fault of the code. A failing
# example is small already; shrinking it further would take minutes. In CI the same examples each time: a
# change is judged by itself. Elsewhere new ones are tried.
settings.register_profile(
    "keymallet",
    deadline=None,
    derandomize=bool(os.environ.get("CI")) and PROFILE == "quick",
    suppress_health_check=list(HealthCheck),
    phases=[Phase.explicit, Phase.reuse, Phase.generate],
    max_examples=int(100 * FACTORS[PROFILE]),
)
settings.load_profile("keymallet")


def first(number: int, values: Iterable[object]) -> list[object]:
    """Parameters of a test: the first few of them always, all of them in a deep run."""
    kept = list(values)
    return [*kept[:number], *(pytest.param(value, marks=pytest.mark.deep) for value in kept[number:])]


def examples(number: int) -> Callable[[F], F]:
    """Let a property test look at so many examples, or at many times as many in a deep run."""
    decorated: Callable[[F], F] = settings(max_examples=max(5, int(number * FACTORS[PROFILE])))
    return decorated
