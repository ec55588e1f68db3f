"""What a topic's report consists of, and how it is counted out by unit, kind, source and the like."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from enum import Enum
from functools import cached_property
from typing import Any

import polars as pl

from keymallet.core.facts.model import Kind
from keymallet.core.judging.judge import Judgement
from keymallet.core.language.typed import Typed
from keymallet.core.rulebook.model import Rulebook

STATE = "state"


class Tone(Enum):
    """How a state reads: what is bad, what wants a look, what is in order, what cannot be told."""

    GRAVE = "grave"
    WORRY = "worry"
    FAIR = "fair"
    FINE = "fine"
    OPEN = "open"
    QUIET = "quiet"


@dataclass(frozen=True, slots=True)
class State:
    """One of the states that a topic sorts its rows into."""

    word: str
    meaning: str
    tone: Tone


@dataclass(frozen=True)
class Section:
    """A table of its own beside the report, under a short `name`.

    `rows` are all there are; a terminal shows the first few, and of them the columns `shown` (or all).
    `kinds` says what the columns hold, where it is not text.
    """

    name: str
    rows: pl.DataFrame
    kinds: Mapping[str, Kind] = field(default_factory=dict)
    shown: tuple[str, ...] = ()


@dataclass(frozen=True)
class TopicReport:
    """A topic, worked out: each row in one of the `states`, the worst rows first.

    `rows` has the columns STATE (a word of `states`), those of the topic's groupings, and what else is
    worth a column. Instants, spans, numbers and lists stand in them as such; `kinds` says which columns
    hold what, where it is not text. `measures` are columns of flags that are counted beside the states.
    `numbers` are what is told of the topic besides, by name. `draw` makes what only a figure needs.
    """

    topic: str
    at: datetime
    noun: str
    states: tuple[State, ...]
    rows: pl.DataFrame
    kinds: Mapping[str, Kind] = field(default_factory=dict)
    measures: tuple[str, ...] = ()
    sections: tuple[Section, ...] = ()
    numbers: Mapping[str, Any] = field(default_factory=dict)
    plural: str = ""
    draw: Callable[[], Mapping[str, pl.DataFrame]] = dict

    @cached_property
    def drawn(self) -> Mapping[str, pl.DataFrame]:
        """What only a figure needs, worked out when it is first asked for."""
        return self.draw()

    def number(self, *states: str) -> int:
        """How many rows are in one of these states."""
        return int(self.rows[STATE].is_in(states).sum())


@dataclass(frozen=True)
class Topic:
    """One topic: `asked` gives its questions by name, `report` makes the topic's report of their answers.

    A question is an expression and the table it is asked of; its answer a column over that table.
    `groupings` are the columns by which the report can be counted out, the usual one first. With
    `whole_book`, the report rests on the verdicts of all rules, not only on those of the topic. A figure
    is grouped by `drawn_by`, if that is another than the usual one.
    """

    name: str
    title: str
    groupings: tuple[str, ...]
    asked: Callable[[Rulebook], dict[str, tuple[str, Typed]]]
    report: Callable[[Judgement, Mapping[str, pl.Series]], TopicReport]
    whole_book: bool = False
    drawn_by: str = ""


def work_out(topic: Topic, judgement: Judgement, book: Rulebook) -> TopicReport:
    """Ask a topic's questions of the evidence, and make its report of the answers.

    `book` is the whole one, by whose limits and rules they are asked; judged may be only a part of it.
    """
    asked = topic.asked(book)
    context = judgement.context
    context.prepare(asked.values())
    answers: dict[str, pl.Series] = {}
    for table in dict.fromkeys(table for table, _ in asked.values()):
        names = [name for name, (of, _) in asked.items() if of == table]
        values = context.work_out(table, [asked[name][1] for name in names])
        answers.update((name, answer.alias(name)) for name, answer in zip(names, values, strict=True))
    return topic.report(judgement, answers)


def by_group(report: TopicReport, by: str) -> pl.DataFrame:
    """How many rows of each group are in each state, and how many any measure holds of; the worst first.

    A state that is nobody's has a column all the same. Groups are ordered by their share of the worst
    states, weighed; rows without a group are one group without a name.
    """
    words = [state.word for state in report.states]
    counted = report.rows.group_by(by).agg(
        pl.len().cast(pl.Int64).alias("all"),
        *((pl.col(STATE) == word).sum().cast(pl.Int64).alias(word) for word in words),
        *(pl.col(name).fill_null(False).sum().cast(pl.Int64).alias(name) for name in report.measures),
    )
    weights = {state.word: _WEIGHTS[state.tone] for state in report.states}
    badness = pl.sum_horizontal(pl.col(word) * weight for word, weight in weights.items()) / pl.col("all")
    ordered = counted.with_columns(badness.alias("=")).sort(
        ["=", "all", by], descending=[True, True, False], nulls_last=True
    )
    return ordered.drop("=").with_columns(pl.col(by).cast(pl.String))


_WEIGHTS = {Tone.GRAVE: 4.0, Tone.WORRY: 2.0, Tone.OPEN: 1.0, Tone.FAIR: 0.1, Tone.FINE: 0.0, Tone.QUIET: 0.0}


def first_that_holds(truths: Sequence[tuple[str, pl.Series]], otherwise: str, unknown: str) -> pl.Series:
    """The first word whose truth holds, row by row; `unknown` where one before it may hold."""
    frame = pl.DataFrame([truth.alias(str(place)) for place, (_, truth) in enumerate(truths)])
    word = pl.lit(otherwise)
    for place, (name, _) in reversed(list(enumerate(truths))):
        truth = pl.col(str(place))
        word = pl.when(truth.is_null()).then(pl.lit(unknown)).when(truth).then(pl.lit(name)).otherwise(word)
    return frame.select(word.alias(STATE)).to_series()


def in_order(frame: pl.DataFrame, states: Sequence[State], *then: str | pl.Expr) -> pl.DataFrame:
    """The rows, those in the first state first; within a state by what follows, the smallest first."""
    order = {state.word: place for place, state in enumerate(states)}
    place = pl.col(STATE).replace_strict(order, return_dtype=pl.Int8, default=len(order))
    return frame.sort([place, *then], nulls_last=True, maintain_order=True)
