"""Findings that pass block by block are the very same as all of them at once."""

from __future__ import annotations

from pathlib import Path

import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st
from polars.testing import assert_frame_equal

from keymallet.core.explaining.findings import Alike, alike, describe
from keymallet.core.history.added import added
from keymallet.core.history.answers import Answers
from keymallet.core.history.block_by_block import in_blocks, told_in_blocks
from keymallet.core.history.identity import Distinct
from keymallet.core.history.lives import first_lives
from keymallet.core.history.observed import Observed, Observer, observe
from keymallet.core.history.run_table import run_table
from keymallet.core.judging.judge import Judgement, judge
from keymallet.core.rulebook.reading import read_rulebook
from keymallet.sources.rulebooks import open_included
from tests.core.history.test_every_change import BOOKS, KEY_RULES, book_of
from tests.core.reference import World
from tests.core.strategies import evidence_of, worlds
from tests.profiles import examples
from tests.support import AT, CLOCK, judged, newest

ENTRIES = (
    Answers("the key desk", mail="keys@gentian.example", rules=("k*",)),
    Answers("manager"),
    Answers("owner"),
)


def whole(judgement: Judgement, entries: tuple[Answers, ...], structured: bool) -> pl.DataFrame:
    """Everything at once, as a run is written into a logbook."""
    found = alike(judgement, together=True)
    observed = observe(judgement, found=found)
    said = describe(judgement, found, structured=structured)
    table = run_table(observed, first_lives(observed, AT), None, AT, entries, said)
    return said.hstack(added(table, AT))


def in_parts(
    judgement: Judgement, entries: tuple[Answers, ...], structured: bool, at_once: int
) -> list[pl.DataFrame]:
    found = alike(judgement, together=True)
    observer = Observer(judgement, found)

    def known(block: list[Alike], place: int) -> tuple[Observed, pl.DataFrame]:
        observed = observer.observed(block)
        return observed, first_lives(observed, AT).frame

    return list(told_in_blocks(judgement, found, known, entries, structured=structured, at_once=at_once))


@examples(60)
@given(worlds(), BOOKS, KEY_RULES, st.integers(1, 5), st.booleans())
def test_random_estates(
    world: World, pairs: list[tuple[str, str]], keys: list[tuple[str, str]], at_once: int, structured: bool
) -> None:
    judgement = judged(evidence_of(world), book_of(pairs, keys))
    parts = in_parts(judgement, ENTRIES, structured, at_once)
    assert_frame_equal(pl.concat(parts), whole(judgement, ENTRIES, structured))


def test_the_railway(railway_snapshot: Path) -> None:
    """Numbers, people, systems, entries of the register, and rules that can be judged for nobody."""
    text = (railway_snapshot / "rulebook.toml").read_text("utf-8")
    book = read_rulebook(text, "rulebook.toml", open_included)
    judgement = judge(newest(railway_snapshot).evidence(), book, AT, CLOCK)
    parts = in_parts(judgement, ENTRIES, True, at_once=97)
    assert len(parts) > 2
    assert_frame_equal(pl.concat(parts), whole(judgement, ENTRIES, True))


@examples(100)
@given(st.lists(st.integers(0, 9), max_size=6), st.integers(1, 4))
def test_blocks_are_no_longer_than_asked_for_and_leave_nothing_out(sizes: list[int], most: int) -> None:
    found = [Alike(None, None, pl.int_range(size, dtype=pl.UInt32, eager=True)) for size in sizes if size]  # type: ignore[arg-type]
    blocks = list(in_blocks(found, most))
    assert all(0 < sum(len(each.rows) for each in block if each.rows is not None) <= most for block in blocks)
    rows = [row for block in blocks for each in block if each.rows is not None for row in each.rows]
    assert rows == [row for size in sizes for row in range(size)]


def test_two_that_are_known_by_the_same_are_seen_in_whatever_blocks_they_stand() -> None:
    ids = pl.Series("finding-id", ["0123456789abcdef0123", "0123456789abcdef0124"])
    distinct = Distinct()
    distinct.add(ids)
    distinct.check()
    distinct.add(ids[1:])
    with pytest.raises(ValueError, match="known by the same"):
        distinct.check()
