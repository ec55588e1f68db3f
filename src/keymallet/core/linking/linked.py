"""Readings of all sources side by side: what a linking pass takes, and what it gives back."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.facts.declaration import ACCOUNT
from keymallet.core.facts.model import Table
from keymallet.core.facts.reading import Reading
from keymallet.core.linking.declared import Federation, MatchRule, SourcePair


@dataclass(frozen=True)
class LinkingRules:
    """What an estate declares of how its sources belong together.

    `match_rules` tell whose an account is, `pairs` which sources must agree, `federations` which sources
    prove the accounts of others; days are those of `clock`.
    """

    clock: ZoneInfo
    match_rules: tuple[MatchRule, ...] = ()
    pairs: tuple[SourcePair, ...] = ()
    federations: tuple[Federation, ...] = ()


@dataclass(frozen=True)
class Said:
    """A sentence on one source, in numbers that add up where its rows are linked in several parts.

    Those with the same `source` and `of` are one. `worded` makes the sentence of the numbers and of the first
    few names; if that is empty there is nothing to say. It is a function at the top of a module, or a partial
    of one.
    """

    source: str
    of: str
    worded: Callable[[Mapping[str, int], Sequence[str]], str]
    numbers: Mapping[str, int]
    names: tuple[str, ...] = ()


def remarks_on(said: Iterable[Said]) -> dict[str, list[str]]:
    """What is said of each source, in its order, the parts of a sentence added up."""
    parts: dict[tuple[str, str], list[Said]] = {}
    for each in said:
        parts.setdefault((each.source, each.of), []).append(each)
    remarks: dict[str, list[str]] = {}
    for (source, _), mine in parts.items():
        numbers: Counter[str] = Counter()
        for each in mine:
            numbers.update(each.numbers)
        remark = mine[0].worded(numbers, [name for each in mine for name in each.names])
        if remark:
            remarks.setdefault(source, []).append(remark)
    return remarks


def both(remarks: Iterable[str], more: Iterable[str]) -> list[str]:
    """Remarks and more of them; what was taken over from an earlier reading may say the same already."""
    return list(dict.fromkeys([*remarks, *more]))


@dataclass(frozen=True)
class LinkedReadings:
    """All readings, and one frame for each table that any of them has.

    A pass changes neither: it gives a new one of these, in which other frames and other notes stand.
    The frames of `tables` have the columns of the declaration; those of rows that belong to accounts have
    ACCOUNT_ROW besides, and each has the column that says which source a row came from. `said` is what is to
    be remarked on the sources.
    """

    readings: tuple[Reading, ...]
    tables: Mapping[str, pl.DataFrame]
    said: tuple[Said, ...] = field(default=())

    @property
    def accounts(self) -> pl.DataFrame:
        """The accounts of all sources."""
        return self.tables[ACCOUNT.name]

    def frame(self, table: Table) -> pl.DataFrame | None:
        """The rows of a table; None where no source has it."""
        return self.tables.get(table.name)

    def suppliers(self, table: Table, *columns: str) -> list[str]:
        """The sources that supply a table with all of these columns."""
        return [
            reading.source
            for reading in self.readings
            if table.name in reading.supply and set(columns) <= reading.supply[table.name].keys()
        ]

    def with_frame(self, table: Table, frame: pl.DataFrame) -> LinkedReadings:
        """The same with another frame of a table."""
        return replace(self, tables={**self.tables, table.name: frame})

    def supplying(self, sources: Iterable[str], table: Table, columns: Mapping[str, str]) -> LinkedReadings:
        """The same, with these sources supplying more columns of a table: each with what it was told by.

        What a source says of a column already is replaced.
        """
        wanted = set(sources)
        return replace(
            self,
            readings=tuple(
                replace(reading, supply=_with_columns(reading.supply, table.name, columns))
                if reading.source in wanted
                else reading
                for reading in self.readings
            ),
        )

    def no_longer_supplying(self, table: Table, column: str) -> LinkedReadings:
        """The same, with no source supplying that column any more."""
        return replace(
            self,
            readings=tuple(
                replace(reading, supply=_without_column(reading.supply, table.name, column))
                for reading in self.readings
            ),
        )

    def saying(self, said: Iterable[Said]) -> LinkedReadings:
        """The same with more to be remarked."""
        return replace(self, said=(*self.said, *said))

    def remarked(self) -> LinkedReadings:
        """The same, with what is said entered in the remarks of the readings."""
        remarks = remarks_on(self.said)
        return replace(
            self,
            said=(),
            readings=tuple(
                replace(reading, remarks=both(reading.remarks, remarks.get(reading.source, ())))
                for reading in self.readings
            ),
        )


def of_sources(sources: Iterable[str], column: str = "source") -> pl.Expr:
    """Whether a row's source, which stands in this column, is one of these."""
    return pl.col(column).cast(pl.String).is_in(pl.Series(list(sources), dtype=pl.String).implode())


Supplied = dict[str, dict[str, str]]


def _with_columns(supply: Supplied, table: str, columns: Mapping[str, str]) -> Supplied:
    return {**supply, table: {**supply.get(table, {}), **columns}}


def _without_column(supply: Supplied, table: str, column: str) -> Supplied:
    return {
        name: {known: how for known, how in columns.items() if (name, known) != (table, column)}
        for name, columns in supply.items()
    }
