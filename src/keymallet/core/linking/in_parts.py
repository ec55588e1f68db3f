"""Linking of readings that lie in parts: the parts are told of each other in rounds, then each is linked.

In a round every part tells what others have to know of its rows, for as many passes as can be told of then.
Only the columns that this takes are asked for. What linking a part gives then is what linking all would give
of its rows, as long as rows that are held together lie in one part (see `placing`).
"""

from __future__ import annotations

import functools
import operator
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import polars as pl

from keymallet.core.facts.declaration import ACCOUNT, GATE, PERSON, TABLES
from keymallet.core.facts.evidence import SHARED_ID, UNREAD, notes_unread, with_unread
from keymallet.core.facts.reading import Reading
from keymallet.core.linking.assembling import FINDING, Assembly, Found, Strays, found_of_all, strays_of_all
from keymallet.core.linking.between_shards import Telling
from keymallet.core.linking.gates import COUNTED
from keymallet.core.linking.linked import LinkedReadings, LinkingRules, Said, both, remarks_on
from keymallet.core.linking.passes import PASSES, Pass

Columns = dict[str, set[str]]
"""Names of columns, by table."""


# lasting ids that several accounts have: of no use to linking, and told only where evidence lies in parts


def _ids_had(linked: LinkedReadings, rules: LinkingRules, _: None) -> pl.Series | None:
    if "stable-id" not in linked.accounts.columns:
        return None
    return _ids(linked).drop_nulls().hash(_SEED)


def _had_twice(parts: Sequence[pl.Series]) -> pl.Series | None:
    had = pl.concat(parts)
    return had.filter(had.is_duplicated()).unique()


def _ids_of_several(linked: LinkedReadings, rules: LinkingRules, twice: pl.Series) -> pl.DataFrame | None:
    ids = _ids(linked)
    mine = ids.filter(ids.hash(_SEED).is_in(twice.implode())) if len(twice) else ids.clear()
    return mine.value_counts(name=_ACCOUNTS) if len(mine) else None


def _surely_twice(parts: Sequence[pl.DataFrame]) -> pl.Series:
    had = pl.concat(parts).group_by(_ID).agg(pl.col(_ACCOUNTS).sum())
    return had.filter(pl.col(_ACCOUNTS) > 1)[_ID]


def _mark_ids(linked: LinkedReadings, rules: LinkingRules, twice: pl.Series | None) -> LinkedReadings:
    if "stable-id" not in linked.accounts.columns:
        return linked
    none = pl.Series([], dtype=pl.String)
    shared = _ids(linked).is_in((none if twice is None else twice).implode()).fill_null(False)
    return linked.with_frame(ACCOUNT, linked.accounts.with_columns(shared.alias(SHARED_ID)))


def _ids(linked: LinkedReadings) -> pl.Series:
    """The lasting ids with their sources."""
    written = pl.concat_str(pl.col("source").cast(pl.String), pl.lit("/"), "stable-id")
    return linked.accounts.select(written.alias(_ID)).to_series()


_ID, _ACCOUNTS = "id", "accounts"
_SEED = 2_654_435_761


STEPS: tuple[Pass, ...] = (
    *PASSES,
    Pass(
        _mark_ids,
        needs=("account.stable-id", "account.source"),
        makes=(),
        tellings=(Telling(_ids_had, _had_twice), Telling(_ids_of_several, _surely_twice)),
    ),
)
"""What is done with each part."""


@dataclass
class Rounds:
    """What the parts have told so far, and what is to be told next."""

    rules: LinkingRules
    strays: dict[tuple[str, str], Strays] | None = None
    found: Found | None = None
    known: dict[str, Any] = field(default_factory=dict)
    told: dict[str, int] = field(default_factory=dict)

    def is_over(self) -> bool:
        """Whether there is nothing more to be told."""
        return self.found is not None and not self._next()

    def wanted(self, tables: Mapping[str, Iterable[str]]) -> Columns:
        """The columns that the next round asks for; `tables` are all tables and their columns."""
        least = {
            name: {TABLES[name].required, "account", UNREAD} for name in tables if TABLES[name].of_account
        }
        if self.strays is None:
            return {ACCOUNT.name: {"name"}, **least}
        if self.found is None:
            return {ACCOUNT.name: {"name", *FINDING}}
        asked: Columns = {ACCOUNT.name: {"name", UNREAD}, PERSON.name: {"person", UNREAD}}
        for step in self._next():
            for each in (step, *self._before(step)):
                for need in each.needs:
                    table, _, column = need.partition(".")
                    asked.setdefault(table, {UNREAD}).add(column)
        return {name: least.get(name, set()) | columns for name, columns in asked.items() if name in tables}

    def tell(self, readings: Sequence[Reading]) -> Any:
        """What a part has to say in this round, of its readings with the columns that are wanted."""
        assembly = Assembly(readings)
        if self.strays is None:
            return assembly.strays()
        if self.found is None:
            return assembly.found(self.strays)
        now = self._next()
        wanted = {step.name for each in now for step in self._before(each)}
        linked = assembly.finished(self.strays, self.found)
        said = {}
        for step in STEPS:
            if step in now:
                telling = step.tellings[self.told.get(step.name, 0)]
                said[step.name] = telling.tell(linked, self.rules, self.known.get(step.name))
            elif step.name in wanted:
                linked = self._run(step, linked)
        return said

    def heard(self, said: Sequence[Any]) -> None:
        """Take note of what all parts have said, in their order."""
        if self.strays is None:
            self.strays = strays_of_all(said)
            # Where nobody's rows are found there is nothing to be looked for.
            self.found = None if any(each.values is not None for each in self.strays.values()) else {}
            return
        if self.found is None:
            self.found = found_of_all(said)
            return
        for step in self._next():
            number = self.told.get(step.name, 0)
            of_all = step.tellings[number].of_all([each[step.name] for each in said])
            self.known[step.name] = of_all
            self.told[step.name] = len(step.tellings) if of_all is None else number + 1

    def finished(self, readings: Sequence[Reading]) -> LinkedReadings:
        """A part's readings, linked, once everything is told."""
        linked = Assembly(readings).finished(self.strays or {}, self.found or {})
        for step in STEPS:
            linked = self._run(step, linked)
        return linked

    def _run(self, step: Pass, linked: LinkedReadings) -> LinkedReadings:
        if not step.tellings:
            return step.run(linked, self.rules)
        return step.run(linked, self.rules, self.known.get(step.name))

    def _is_told(self, step: Pass) -> bool:
        return self.told.get(step.name, 0) == len(step.tellings)

    def _next(self) -> list[Pass]:
        """The passes that can be told of now: nothing they need is made by one that is not told of yet."""
        now: list[Pass] = []
        open_columns: set[str] = set()
        for step in STEPS:
            waits = not open_columns.isdisjoint(step.needs)
            if not self._is_told(step) and not waits:
                now.append(step)
            if waits or not self._is_told(step):
                open_columns.update(step.makes)
        return now

    def _before(self, step: Pass) -> list[Pass]:
        """The earlier passes without which what a pass needs would not be there, or be something else."""
        needed = set(step.needs)
        before: list[Pass] = []
        for earlier in reversed(STEPS[: STEPS.index(step)]):
            if not needed.isdisjoint(earlier.makes):
                before.append(earlier)
                needed.update(earlier.needs)
        return before


@dataclass(frozen=True)
class PartLinked:
    """What a part leaves beside its rows: its readings without rows, what is said, and its gates."""

    readings: tuple[Reading, ...]
    said: tuple[Said, ...]
    gates: pl.DataFrame | None

    @classmethod
    def of(cls, linked: LinkedReadings) -> PartLinked:
        """What is left of a part that was linked."""
        bare = tuple(replace(reading, tables={}) for reading in linked.readings)
        return cls(bare, linked.said, linked.frame(GATE))


def readings_of_all(parts: Sequence[PartLinked]) -> list[Reading]:
    """The readings, as the parts together have them."""
    remarks = remarks_on(said for part in parts for said in part.said)
    return [
        replace(reading, remarks=both(reading.remarks, remarks.get(reading.source, ())))
        for reading in parts[0].readings
    ]


def gates_of_all(parts: Sequence[PartLinked]) -> pl.DataFrame | None:
    """The gates, whose accounts are counted over all parts; None where there are none."""
    frames = [part.gates for part in parts if part.gates is not None]
    if not frames or not set(COUNTED) <= set(frames[0].columns):
        return frames[0] if frames else None
    gates = frames[0]
    unread: dict[str, pl.Series] = {}
    for name in COUNTED:
        # What one part cannot count, nobody can.
        number = functools.reduce(operator.add, (frame[name] for frame in frames))
        noted = [frame.select(notes_unread(frame, name)).to_series() for frame in frames]
        lost = functools.reduce(operator.or_, noted) & ~noted[0]
        if lost.any():
            unread[name] = lost
        gates = gates.with_columns(number.alias(name))
    return with_unread(gates, unread)
