"""TOML with places: where each fault stands, and what of the line is underlined."""

from __future__ import annotations

import pytest

from keymallet.core.base.problems import KeymalletError, Problem
from keymallet.core.base.toml_text import Path, TomlDocument

TEXT = """\
organisation = "GVR"

[limits]
idle = "60d"
schemes = ["argon2",
           "yescrypt"]

[rule.a]
title = "ä \\" b"
must = \"\"\"
enabled
and locked\"\"\"
"""


def fault(path: Path, span: tuple[int, int] | None = None, text: str = TEXT) -> Problem:
    document = TomlDocument(text, "x.toml")
    document.fault(path, "wrong", span=span)
    return document.problems[0]


@pytest.mark.parametrize(
    ("path", "span", "place", "marked"),
    [
        (("limits", "idle"), None, (4, 8), '"60d"'),
        (("limits", "schemes"), None, (5, 11), '["argon2",'),
        (("limits", "schemes", 1), None, (6, 12), '"yescrypt"'),
        # what is missing is told at the nearest thing around it
        (("limits", "gone"), None, (3, 2), "limits"),
        (("rule", "a", "gone", "deeper"), None, (8, 2), "rule.a"),
        (("nowhere",), None, (1, 1), None),
        (("rule",), None, (8, 2), "rule.a"),
        # characters of a text, escapes and the line it begins on counted
        (("rule", "a", "title"), (4, 5), (9, 15), "b"),
        (("rule", "a", "must"), (0, 7), (11, 1), "enabled"),
        (("rule", "a", "must"), (7, 7), (11, 8), ""),
        (("rule", "a", "must"), (12, 18), (12, 5), "locked"),
    ],
)
def test_where_a_fault_stands(
    path: Path, span: tuple[int, int] | None, place: tuple[int, int], marked: str | None
) -> None:
    """Its line and column, and what is underlined there."""
    problem = fault(path, span)
    assert problem.place is not None
    assert (problem.place.line, problem.place.column) == place
    if marked is None:
        assert problem.excerpt is None
    else:
        assert problem.excerpt is not None
        begin, length = problem.excerpt.start, problem.excerpt.length
        assert problem.excerpt.line[begin : begin + length] == marked


@pytest.mark.parametrize(
    ("text", "place", "marked"),
    [
        ("a = 1\nbc = @\n", (2, 6), "@"),
        ("@ = 1\n", (1, 1), "@"),
        ("a = 1\n\n  a = 2\n", (3, 8), None),
        ("[open\n", (1, 6), None),
        ('a = "no end', (1, 1), None),
    ],
)
def test_where_the_text_is_no_toml(text: str, place: tuple[int, int], marked: str | None) -> None:
    """At the sign that does not fit; at the last line where the text ends too soon."""
    with pytest.raises(KeymalletError) as raised:
        TomlDocument(text, "x.toml")
    (problem,) = raised.value.problems
    assert problem.place is not None and problem.message.startswith("this is not TOML: ")
    assert (problem.place.line, problem.place.column) == place
    if marked is not None:
        assert problem.excerpt is not None
        assert problem.excerpt.line[problem.excerpt.start :][: problem.excerpt.length] == marked
