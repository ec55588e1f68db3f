"""A figure never reads like its limit: read back, what is shown breaks what is asked."""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from keymallet.core.explaining.findings import findings
from tests.profiles import examples
from tests.support import AT, evidence, judged, rule

_UNITS = {"d": 86_400_000_000, "h": 3_600_000_000, "min": 60_000_000, "s": 1_000_000, "µs": 1}


def length(text: str) -> timedelta:
    """A length of time, read back from its text."""
    parts = re.findall(r"(\d+) (d|h|min|s|µs)\b", text)
    assert parts, text
    return timedelta(microseconds=sum(int(number) * _UNITS[unit] for number, unit in parts))


@examples(40)
@given(
    st.integers(1, 400),
    st.sampled_from(["d", "h", "min"]),
    st.one_of(st.integers(1, 5), st.integers(1, 10**7), st.integers(1, 10**14)),
)
def test_an_age_over_its_limit(limit: int, unit: str, over: int) -> None:
    """By a microsecond, by an hour, by years."""
    allowed = timedelta(microseconds=limit * _UNITS[unit])
    made = AT - allowed - timedelta(microseconds=over)
    (told,) = findings(judged(evidence([{"created": made}]), rule(f"age(created) <= {limit}{unit}")))[
        "because"
    ]
    figure, bound = told.split("; ")
    assert length(figure.partition(", ")[2]) > length(bound) == allowed, told


@examples(30)
@given(
    st.datetimes(datetime(2026, 1, 1), datetime(2026, 12, 31), timezones=st.just(UTC)),
    st.one_of(st.integers(1, 10), st.integers(1, 10**13)),
)
def test_an_instant_after_its_latest(ends: datetime, later: int) -> None:
    """On the same day, in the same minute, within the same second."""
    world = evidence([{"ends": ends, "starts": ends + timedelta(microseconds=later)}])
    (told,) = findings(judged(world, rule("starts <= ends")))["because"]
    figure, bound = (re.search(r"\d{4}-\d\d-\d\d[\d :.]*", part)[0].strip() for part in told.split("; "))  # type: ignore[index]
    assert figure > bound, told


@pytest.mark.parametrize(
    ("must", "told"),
    [
        ("failed-attempts <= limit.few", "9 failed sign-ins; limit 3"),
        ("failed-attempts < limit.many", "9 failed sign-ins; fewer than 9 allowed"),
        ("failed-attempts > limit.many", "9 failed sign-ins; more than 9 required"),
        ("failed-attempts >= limit.most", "9 failed sign-ins; minimum 30"),
    ],
)
def test_a_limit_that_may_be_reached_and_one_that_may_not(must: str, told: str) -> None:
    """Of the one that may not, the figure may be the limit itself."""
    limits = "[limits]\nfew = 3\nmany = 9\nmost = 30\n"
    unused = [name for name in ("few", "many", "most") if f"limit.{name}" not in must]
    for name in unused:
        limits = re.sub(rf"{name} = \d+\n", "", limits)
    found = findings(judged(evidence([{"failed_attempts": 9}]), rule(must, extra=limits)))
    assert found["because"].to_list() == [told]


_READ_BACK = {
    "fewer than {} allowed": lambda found, bound: found < bound,
    "at most {} allowed": lambda found, bound: found <= bound,
    "limit {}": lambda found, bound: found <= bound,
    "at least {} required": lambda found, bound: found >= bound,
    "minimum {}": lambda found, bound: found >= bound,
    "more than {} required": lambda found, bound: found > bound,
    "required: {}": lambda found, bound: found == bound,
    "none allowed": lambda found, bound: found == 0,
}


@examples(60)
@given(
    st.sampled_from(["<", "<=", ">", ">=", "="]),
    st.integers(0, 9),
    st.integers(0, 9),
    st.booleans(),
    st.booleans(),
)
def test_a_number_read_back_breaks_what_is_asked(
    operator: str, bound: int, found: int, named: bool, turned: bool
) -> None:
    """Whichever side the figure stands on, and whether it is a limit of the book or a plain one."""
    asked = "limit.few" if named else str(bound)
    mirrored = {"<": ">", "<=": ">=", ">": "<", ">=": "<=", "=": "="}[operator]
    must = f"{asked} {mirrored} failed-attempts" if turned else f"failed-attempts {operator} {asked}"
    extra = f"[limits]\nfew = {bound}\n" if named else ""
    told = findings(judged(evidence([{"failed_attempts": found}]), rule(must, extra=extra)))[
        "because"
    ].to_list()
    holds = {
        "<": found < bound,
        "<=": found <= bound,
        ">": found > bound,
        ">=": found >= bound,
        "=": found == bound,
    }
    assert bool(told) is not holds[operator], told
    for text in told:
        figure, _, demand = text.partition("; ")
        read = int(figure.split()[0])
        assert read == found
        shape = re.sub(r"\d+", "{}", demand)
        if shape == "at least {} required" and operator == ">":
            assert bound == 0 and demand == "at least 1 required"
        assert not _READ_BACK[shape](read, int(re.sub(r"\D", "", demand) or 0)), text
