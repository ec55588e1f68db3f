"""What exists already, as far as planned accounts are held against it."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field

import polars as pl

from keymallet.core.facts.declaration import ACCOUNT, GATE, GRANT, PERSON, SETTING
from keymallet.core.facts.evidence import Evidence, source_column
from keymallet.core.facts.reading import Reading

FACTS_HELD_AGAINST = ("name", "stable-id", "mail", "display", "person", "unit", "manager")
"""The facts of existing accounts that planned ones are held against; `groups` where they ask for some."""


@dataclass(frozen=True)
class Existing:
    """The newest evidence: accounts of all sources, people, and what is in force in the target.

    `names_before` are login names that earlier snapshots have of the target. `unfinished` says why sources
    were not read, or not to their end.
    """

    evidence: Evidence
    names_before: Collection[str] = frozenset()
    unfinished: Mapping[str, Sequence[str]] = field(default_factory=dict)

    def accounts(self, *columns: str) -> pl.DataFrame:
        """These columns of all accounts, beside `account` and `source`."""
        wanted = dict.fromkeys(("account", "source", *columns))
        return (
            self.evidence.tables[ACCOUNT.name].select(*wanted).with_columns(pl.col("source").cast(pl.String))
        )

    def of_target(self, source: str, *columns: str) -> pl.DataFrame:
        """These columns of the accounts of one source."""
        return self.accounts(*columns).filter(pl.col("source") == source)

    @property
    def people(self) -> pl.DataFrame | None:
        """The staff list; None where no source has one."""
        return self.evidence.tables.get(PERSON.name)

    def in_force(self, source: str) -> dict[str, pl.DataFrame]:
        """The settings and sign-in requirements of one source, as a source gives them."""
        found = {}
        for table in (SETTING, GATE):
            frame = self.evidence.tables.get(table.name)
            if frame is not None:
                mine = frame.filter(pl.col("source").cast(pl.String) == source)
                across = [column.name for column in table.columns if column.across]
                found[table.name] = mine.drop("source", *across, strict=False)
        return found

    def rosters(self) -> list[Reading]:
        """The staff list as its sources gave it."""
        if self.people is None:
            return []
        origin = source_column(PERSON)
        readings = []
        for source in self.evidence.suppliers(PERSON.name):
            mine = self.people.filter(pl.col(origin).cast(pl.String) == source).drop(origin)
            nobody = pl.DataFrame(schema={"name": pl.String})
            readings.append(
                Reading(
                    source,
                    {ACCOUNT.name: nobody, PERSON.name: mine},
                    {PERSON.name: dict(self.evidence.supply[source][PERSON.name])},
                    incomplete=list(self.unfinished.get(source, ())),
                )
            )
        return readings


def facts_needed(batch_facts: Collection[str]) -> dict[str, set[str]]:
    """The facts of the snapshot, by table, that a batch giving these facts of accounts is held against."""
    accounts = {*FACTS_HELD_AGAINST, *({"groups"} & set(batch_facts))}
    return {
        ACCOUNT.name: accounts,
        **({GRANT.name: {"privileged", "via"}} if "groups" in batch_facts else {}),
        PERSON.name: set(PERSON.names),
        SETTING.name: set(SETTING.names),
        GATE.name: set(GATE.names),
    }
