"""The roster's people, once each, and managers by their number."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import polars as pl

from keymallet.core.base.listing import MOST_NAMED, some_names
from keymallet.core.facts.declaration import ACCOUNT, PERSON
from keymallet.core.facts.evidence import ORIGIN
from keymallet.core.linking.linked import LinkedReadings, LinkingRules, Said


def drop_repeated_people(linked: LinkedReadings, rules: LinkingRules) -> LinkedReadings:
    """Keep of people who stand in several rosters what the first says, and say so."""
    people = linked.frame(PERSON)
    if people is None:
        return linked
    again = ~people["person"].is_first_distinct()
    repeated = people.filter(again).select(pl.col(ORIGIN).cast(pl.String), "person")
    parts = repeated.partition_by(ORIGIN, as_dict=True)
    said = []
    for reading in linked.readings:
        mine = parts.get((reading.source,), repeated.clear())
        few = tuple(mine["person"].head(MOST_NAMED))
        said.append(Said(reading.source, "repeated people", _of_repeated, {"people": mine.height}, few))
    kept = people.filter(~again) if repeated.height else people
    return linked.with_frame(PERSON, kept).saying(said)


def _of_repeated(numbers: Mapping[str, int], names: Sequence[str]) -> str:
    people = numbers["people"]
    said = f"{people:,} people stand in an earlier roster, which counts: {some_names(names, of=people)}"
    return said if people else ""


def managers_named(linked: LinkedReadings, rules: LinkingRules, _: None) -> pl.DataFrame | None:
    """Each manager that an account of a source names: `source`, `manager`."""
    accounts = linked.accounts
    if not {"manager", "person"} <= set(accounts.columns):
        return None
    named = accounts.select("source", "manager").drop_nulls().unique()
    return named if named.height else None


def once_each(parts: Sequence[pl.DataFrame]) -> pl.DataFrame:
    """What any part has, once."""
    return parts[0] if len(parts) == 1 else pl.concat(parts).unique()


def managers_found(linked: LinkedReadings, rules: LinkingRules, named: pl.DataFrame) -> pl.DataFrame:
    """The `number` of the person of each account named as a manager: `by` which fact, `source`, `manager`."""
    accounts = linked.accounts
    found = [
        accounts.select("source", manager=by, number="person")
        .drop_nulls()
        .join(named, on=["source", "manager"], how="semi")
        .select(pl.lit(by).alias("by"), "source", "manager", "number")
        for by in _OF_A_MANAGER
        if by in accounts.columns
    ]
    return pl.concat(found)


_OF_A_MANAGER = ("name", "stable-id")


def number_managers(
    linked: LinkedReadings, rules: LinkingRules, found: pl.DataFrame | None
) -> LinkedReadings:
    """Where a manager is an account of the same source, put the number of its person.

    An account is looked for by its name first, then by its lasting id; of several of one, none is taken.
    """
    if found is None:
        return linked
    accounts = linked.accounts
    alone = found.unique(["by", "source", "manager"], keep="none")
    for by in _OF_A_MANAGER:
        number = alone.filter(pl.col("by") == by).drop("by").rename({"number": f"by {by}"})
        accounts = accounts.join(number, on=["source", "manager"], how="left", maintain_order="left")
    numbers = [f"by {by}" for by in _OF_A_MANAGER]
    manager = pl.coalesce(*numbers, "manager").alias("manager")
    return linked.with_frame(ACCOUNT, accounts.with_columns(manager).drop(numbers))
