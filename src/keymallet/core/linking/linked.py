"""Readings of all sources side by side: what a linking pass takes, and what it gives back."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
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
class LinkedReadings:
    """All readings, and one frame for each table that any of them has.

    A pass changes neither: it gives a new one of these, in which other frames and other notes stand.
    The frames of `tables` have the columns of the declaration; those of rows that belong to accounts have
    ACCOUNT_ROW besides, and each has the column that says which source a row came from.
    """

    readings: tuple[Reading, ...]
    tables: Mapping[str, pl.DataFrame]

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

    def remarking(self, remarks: Mapping[str, list[str]]) -> LinkedReadings:
        """The same with more remarks, by source."""
        return replace(
            self,
            readings=tuple(
                replace(reading, remarks=[*reading.remarks, *remarks[reading.source]])
                if remarks.get(reading.source)
                else reading
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
