"""The part of the roster that findings name: whoever answers for others may lie in another shard."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

from keymallet.core.facts.declaration import ACCOUNT, PERSON
from keymallet.core.facts.evidence import Evidence, empty_frame
from keymallet.core.history.answerers import name_and_number, named_staff, staff_told
from keymallet.core.history.answers import MANAGER, OWNER, Answers

STAFF = {"given": pl.String(), "name": pl.String(), "gone": pl.Boolean(), "address": pl.String()}


def asks_for_staff(entries: Sequence[Answers]) -> bool:
    """Whether anybody answers for findings whom facts name: else the roster does not matter."""
    return not all(entry.is_desk for entry in entries)


def wanted(evidence: Evidence) -> pl.Series:
    """The numbers and names by which a shard's accounts and people name others."""
    named = [
        evidence.tables[table][fact].cast(pl.String).drop_nulls()
        for table, fact in ((ACCOUNT.name, MANAGER), (ACCOUNT.name, OWNER), (PERSON.name, MANAGER))
        if table in evidence.tables and fact in evidence.tables[table].columns
    ]
    return pl.concat([pl.Series(dtype=pl.String), *(each.alias("") for each in named)]).unique()


def staff_among(evidence: Evidence, named: pl.Series) -> pl.DataFrame:
    """STAFF of those people of a shard who are named so."""
    of = named.implode()
    is_named = (
        pl.col("given").is_in(of) | pl.col("name").is_in(of) | name_and_number().is_in(of).fill_null(False)
    )
    return _told(evidence).filter(is_named).select(list(STAFF))


def names_among(evidence: Evidence, names: pl.Series) -> pl.DataFrame:
    """How many people of a shard have each of these names: `name` and `people`."""
    mine = _told(evidence).filter(pl.col("name").is_in(names.implode()))
    return mine.group_by("name").agg(pl.len().alias("people"))


def staff(found: Sequence[pl.DataFrame], names: Sequence[pl.DataFrame]) -> pl.DataFrame:
    """The staff as `Answering` takes it, from what `staff_among` and `names_among` found in each shard."""
    people = pl.concat(names).group_by("name").agg(pl.col("people").sum())
    shared = people.filter(pl.col("people") > 1)["name"].implode()
    told = pl.concat(found).unique("given", keep="first", maintain_order=True)
    return named_staff(told, pl.col("name").is_in(shared).fill_null(False))


def _told(evidence: Evidence) -> pl.DataFrame:
    return staff_told(evidence.tables.get(PERSON.name, empty_frame(PERSON)))
