"""What reaches the terminal: nothing that steers it, faults in one form, bars that do not lie."""

from __future__ import annotations

import io
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from rich.console import Console
from rich.progress import Progress, TextColumn

from keymallet.core.base.printable import plain
from keymallet.core.base.problems import Excerpt, Place, Problem
from keymallet.core.facts.gaps import Gap
from keymallet.core.facts.reading import Refusal, TableIntake
from keymallet.core.judging.judge import RuleCount
from keymallet.core.rulebook.reading import read_rulebook
from keymallet.store.snapshot import Manifest, Snapshot, SourceRecord
from keymallet.views.intake import show_intake
from keymallet.views.problems import show_problems
from keymallet.views.progress import Bars, Count
from keymallet.views.summary import BAR, EIGHTHS, bar, show_gaps
from keymallet.views.terminal import console
from tests.support import AT, rule


@pytest.mark.parametrize(
    ("text", "shown"),
    [
        ("Änne Größ 日本", "Änne Größ 日本"),
        ("a\x1b[31mb", "a\\x1b[31mb"),
        ("a\nb\tc\rd", "a\\x0ab\\x09c\\x0dd"),
        ("\x9b31m", "\\x9b31m"),
        ("abc\u202edef", "abc\\u202edef"),
        ("a\u200bb", "a\\u200bb"),
        ("\u2028", "\\u2028"),
        ("\U000e0041", "\\U000e0041"),
    ],
)
def test_text_from_outside_cannot_steer_the_terminal(text: str, shown: str) -> None:
    """Letters of any script stay; what moves the cursor, hides or turns text round is written out."""
    assert plain(text) == shown


@given(st.text())
def test_no_control_character_ever_passes(text: str) -> None:
    """Whatever comes in."""
    assert plain(text).isprintable()


def shown(*problems: Problem) -> list[str]:
    stream = io.StringIO()
    show_problems(problems, stream)
    return stream.getvalue().splitlines()


def test_a_fault_is_shown_with_its_line_and_a_caret() -> None:
    """Place, line, caret with the message, one hint."""
    excerpt = Excerpt('must = "age(isued) <= 90d"', 12, 5)
    assert shown(
        Problem(
            'no column "isued"', Place("r.toml", 3, 13, "rule.r, must"), excerpt, 'did you mean "issued"?'
        )
    ) == [
        "r.toml:3:13  rule.r, must",
        '    must = "age(isued) <= 90d"',
        '                ^^^^^ no column "isued"; did you mean "issued"?',
        "",
    ]


def test_a_long_line_is_cut_around_the_fault() -> None:
    """The caret still stands under the word, and everything fits 100 columns."""
    line = "x" * 500 + "WRONG" + "y" * 500
    lines = shown(Problem("message " * 12, Place("f", 1, 501), Excerpt(line, 500, 5)))
    assert all(len(each) <= 100 for each in lines[:3])
    place = lines[2].index("^")
    assert lines[1][place : place + 5] == "WRONG"


def test_many_faults_end_with_their_number() -> None:
    """Not with thousands of lines."""
    lines = shown(*[Problem(f"p{number}") for number in range(250)])
    assert lines[0] == "keymallet: p0"
    assert lines[-2:] == ["and 150 more", "250 faults"]


@given(st.integers(0, 10**6), st.integers(0, 10**6), st.integers(0, 10**6))
def test_a_bar_is_never_too_long_and_shows_every_kind_there_is(met: int, breach: int, unproven: int) -> None:
    """One breach in a million still has its cell."""
    (only,) = read_rulebook(f'title = "t"\n{rule("enabled")}', "r").rules
    drawn = bar(RuleCount(only, met, breach, unproven)).plain
    if met + breach + unproven:
        assert len(drawn) == BAR
        assert any(part in drawn for part in ("█", *EIGHTHS[1:])) == (breach > 0)
        assert ("▒" in drawn) == (unproven > 0) or breach / (met + breach + unproven) > 0.9


def told(sources: int, with_gaps: int, **options: Any) -> list[str]:
    """What is said of a snapshot of so many sources, the last few of them with a refused line."""
    records = {
        f"h/{number:03}": SourceRecord(
            AT,
            {},
            {
                "account": TableIntake(20, refused, refusals=[Refusal("f", 7, "odd")] * refused),
                "sign-in": TableIntake(1),
            },
            [],
            [f"remark {number}"],
        )
        for number in range(sources)
        for refused in [int(number >= sources - with_gaps)]
    }
    manifest = Manifest(3, "0", "e", "O", "UTC", 1, "", [], AT, AT, records, {})
    stream = io.StringIO()
    show_intake(console(stream), Snapshot(Path(), manifest, ""), **options)
    return [line.rstrip() for line in stream.getvalue().splitlines()]


def test_of_many_sources_those_with_gaps_come_first() -> None:
    """A fleet does not scroll by: the rest are counted in one line, or told on demand."""
    assert told(1, 0) == ["h/000", "  read 20 accounts, 1 sign-in", "  remark 0"]
    lines = told(50, 3)
    assert lines[:2] == ["h/047", "  read 20 accounts, refused 1 (f line 7: odd)"]
    assert "and 30 more sources: read 600 accounts, 30 sign-ins; nothing refused;" in " ".join(lines)
    assert len(told(50, 3, most=50)) == 3 * 50 + 3
    assert told(50, 30, only_gaps=True)[-1].startswith("and 10 more sources with gaps")


def test_bars_tell_counts_and_go_away() -> None:
    """Sources tell side by side how far they are; one of which the whole is not known still counts."""
    out = Console(file=io.StringIO(), force_terminal=True, width=90)
    with Progress(TextColumn("{task.description}"), Count(), console=out, auto_refresh=False) as shown:
        bars = Bars(shown)
        bars.started("cloud")
        bars.started("dir\x1b[2Jectory")
        shown.refresh()
        bars.advanced("cloud", 1_200, 40_000, "users")
        bars.advanced("dir\x1b[2Jectory", 500, None, "entries")
        shown.refresh()
        bars.ended("cloud")
        bars.ended("dir\x1b[2Jectory")
    told = out.file.getvalue()  # type: ignore[attr-defined]
    for wanted in ("reading …", "1,200 of 40,000 users", "500 entries"):
        assert wanted in told
    assert "\x1b[2J" not in told and shown.finished


def test_a_source_that_is_missing_is_told_first() -> None:
    """Of many gaps only a few have room; that a whole source was not read is one of them."""
    gaps = [Gap("refused", f"s{n}", f"s{n}: 1 record refused") for n in range(5)]
    out = Console(file=io.StringIO(), width=90)
    show_gaps(out, [*gaps, Gap("not-read", "cloud", "cloud: not read")])
    lines = out.file.getvalue().splitlines()  # type: ignore[attr-defined]
    assert [line.strip() for line in lines] == [
        "incomplete: cloud: not read",
        "incomplete: s0: 1 record refused",
        "and 4 more gaps: keymallet judge --all tells them",
    ]
