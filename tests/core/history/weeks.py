"""Runs one after the other, as the logbook takes them, without files: for tests of what changes between them."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

import polars as pl

from keymallet.core.facts.evidence import Evidence
from keymallet.core.history.columns import ENDED, FINDING
from keymallet.core.history.details import Side, details
from keymallet.core.history.lives import Lives, Wholeness, first_lives, follow
from keymallet.core.history.observed import Observed, observe
from keymallet.core.history.run_table import run_table
from keymallet.core.history.states import ENDS
from keymallet.core.history.steps import Judged, Sameness, Steps
from keymallet.core.judging.judge import Judgement, judge
from keymallet.core.rulebook.reading import read_rulebook
from keymallet.core.rulebook.register import read_register
from tests.support import AT, CLOCK


@dataclass
class Weeks:
    """What a logbook would know, run after run."""

    table: pl.DataFrame | None = None
    last: Judged | None = None
    texts: tuple[str, str] = ("", "")
    transitions: list[pl.DataFrame] = field(default_factory=list)
    steps: Steps | None = None
    observed: Observed | None = None
    lives: Lives | None = None

    def run(
        self,
        found: Evidence,
        rules: str,
        register: str = "",
        at: datetime = AT,
        *,
        not_read: Collection[str] = (),
        refused: Mapping[str, Collection[str]] | None = None,
        forget: bool = False,
        retired: tuple[str, ...] = (),
    ) -> list[dict[str, Any]]:
        """Judge, and give what changed since the run before, with what exactly (`told`)."""
        book = read_rulebook(f'title = "T"\n{rules}', "rulebook.toml")
        entries = read_register(register, "register.toml", CLOCK) if register else None
        judgement = judge(found, book, at, CLOCK, entries)
        self.observed = observe(judgement, self.table)
        whole = Wholeness(
            frozenset(not_read),
            {source: frozenset(tables) for source, tables in (refused or {}).items()},
            {source: frozenset(tables) for source, tables in found.supply.items()},
            retired,
            frozenset(not_read),
        )
        before, last = self.table, self.last
        self.steps = None
        if before is None or last is None:
            self.lives = first_lives(self.observed, at)
            changed = self.lives.transitions
        else:
            same = Sameness(self.texts[0] == rules, self.texts[1] == register, last.evidence is found)

            def steps(keys: Collection[str]) -> Steps | None:
                self.steps = None if forget else Steps.between(last, judgement, entries, same, CLOCK, keys)
                return self.steps

            self.lives = follow(before, self.observed, steps, whole, self._ended, at)
            changed = self.lives.transitions.with_columns(self._details(judgement, last).alias("changed"))
        self.table = run_table(self.observed, self.lives, before, at, ())
        self.last, self.texts = Judged(found, book, entries, at), (rules, register)
        self.transitions.append(changed)
        return [row | {"told": _told(row.get("changed"))} for row in changed.iter_rows(named=True)]

    def _details(self, judgement: Judgement, last: Judged) -> pl.Series:
        assert self.lives is not None and self.observed is not None
        if self.steps is None:
            return pl.Series("changed", [[]] * self.lives.transitions.height)
        old = self.observed.identities_before(self.steps.old)
        book = judgement.rulebook
        register = judgement.covers.register if judgement.covers is not None else None
        return details(
            self.lives.transitions,
            Side(old, last.rulebook, last.register),
            Side(self.observed.identities, book, register),
            CLOCK,
        )

    def _ended(self, ids: pl.Series) -> pl.DataFrame:
        known = pl.concat(
            [part.select(FINDING, "state", "first-seen", "times-back") for part in self.transitions]
        )
        over = known.filter(
            pl.col("state").is_in(list(map(str, ENDS))) & pl.col(FINDING).is_in(ids.implode())
        )
        return (
            over.group_by(FINDING)
            .agg(pl.col("first-seen").min(), pl.col("times-back").max())
            .select(list(ENDED))
        )

    def states(self) -> dict[str, str]:
        """The state of each finding that has one, by account."""
        assert self.table is not None
        return dict(self.table.drop_nulls("state").select("account", "state").iter_rows())


def _told(changed: list[dict[str, str | None]] | None) -> list[str]:
    return [f"{each['what']}: {each['was']} -> {each['is']}" for each in changed or []]


def one(changed: list[dict[str, Any]]) -> tuple[str, str, str, list[str]]:
    """The only change there is: from which state to which, its cause, and what exactly changed."""
    (row,) = changed
    return row["was"], row["state"], row["cause"], row["told"]
