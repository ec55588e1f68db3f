"""Evidence that was linked as a whole, taken apart into shards as if it had been read so."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from pathlib import Path

import polars as pl

from keymallet.core.base.columns import is_repeated, only_where
from keymallet.core.facts.declaration import ACCOUNT, PERSON
from keymallet.core.facts.evidence import ACCOUNT_ROW, CANDIDATES, PERSON_ROW, SHARED_ID, Evidence
from keymallet.core.facts.reading import Reading
from keymallet.core.facts.shards import is_in_every_shard

_SEED = 2_654_435_761
_SHARD, _PLACE = "shard", "place"


class Divided:
    """Evidence in so many shards, to be written as a snapshot."""

    def __init__(self, found: Evidence, shards: int) -> None:
        self.accounts = found.tables[ACCOUNT.name].height
        self._found = found
        self._shards = shards

    def shards(self, scratch: Path) -> Iterator[dict[str, pl.DataFrame]]:
        """The rows of each shard in turn."""
        return divided(self._found.tables, self._shards)

    def together(self) -> tuple[list[Reading], dict[str, pl.DataFrame]]:
        """How the sources were read; no table has to be put right."""
        return [Reading(source, supply=supply) for source, supply in self._found.supply.items()], {}


def divided(tables: Mapping[str, pl.DataFrame], shards: int) -> Iterator[dict[str, pl.DataFrame]]:
    """The rows of each shard in turn, with its own numbers for accounts and people.

    Rows keep their order within a shard. Every shard has every table, some perhaps without rows.
    """
    accounts, people = tables[ACCOUNT.name], tables.get(PERSON.name)
    of_people = None if people is None else _of_people(people, accounts, shards)
    of_accounts = _of_accounts(accounts, people, of_people, shards)
    held: dict[str, tuple[pl.DataFrame, pl.Series]] = {}
    for name, frame in tables.items():
        if name == ACCOUNT.name:
            where = of_accounts
            if "stable-id" in frame.columns:
                shared = is_repeated(frame.select("source", "stable-id"))
                frame = frame.with_columns(shared.alias(SHARED_ID))
            if PERSON_ROW in frame.columns and of_people is not None:
                frame = frame.with_columns(_numbers(of_people).gather(frame[PERSON_ROW]).alias(PERSON_ROW))
        elif name == PERSON.name and of_people is not None:
            where = of_people
        elif is_in_every_shard(name):
            continue
        else:
            rows = frame[ACCOUNT_ROW]
            orphans = _by_hash(frame["account"], shards)
            where = pl.select(pl.coalesce(of_accounts.gather(rows), orphans)).to_series()
            frame = frame.with_columns(_numbers(of_accounts).gather(rows).alias(ACCOUNT_ROW))
        held[name] = frame, where
    for shard in range(shards):
        yield {
            name: held[name][0].filter(held[name][1] == shard) if name in held else frame
            for name, frame in tables.items()
        }


def _numbers(shard: pl.Series) -> pl.Series:
    """The number that each row has within its shard."""
    return shard.to_frame(_SHARD).select(pl.int_range(pl.len(), dtype=pl.UInt32).over(_SHARD)).to_series()


def _by_hash(keys: pl.Series, shards: int) -> pl.Series:
    # Nobody has to find a shard again by its key, so a hash may be another in another version of Polars.
    return (keys.hash(_SEED) % shards).cast(pl.UInt32).alias(_SHARD)


def _of_people(people: pl.DataFrame, accounts: pl.DataFrame, shards: int) -> pl.Series:
    """The shard of each person; those who may have the same account lie in that of one of them."""
    keys = people["person"]
    leaders = _leaders(accounts)
    if leaders:
        keys = keys.replace(leaders)
    return _by_hash(keys, shards)


def _of_accounts(
    accounts: pl.DataFrame, people: pl.DataFrame | None, of_people: pl.Series | None, shards: int
) -> pl.Series:
    """The shard of each account: its person's, else that of those whose it may be, else its own."""
    places = [_by_hash(accounts["account"], shards)]
    if "person" in accounts.columns:
        # Whoever is on no roster has accounts all the same, and they are shown together.
        known = accounts["person"].is_not_null()
        places.insert(0, only_where(known, _by_hash(accounts["person"], shards)))
    if people is not None and of_people is not None:
        if CANDIDATES in accounts.columns:
            told = pl.DataFrame({"person": people["person"], _SHARD: of_people}).unique(
                "person", keep="first", maintain_order=True
            )
            named = accounts.select(person=pl.col(CANDIDATES)).with_row_index(_PLACE).drop_nulls()
            found = named.explode("person").join(told, on="person", how="inner").unique(_PLACE, keep="any")
            nowhere = pl.repeat(None, accounts.height, dtype=pl.UInt32, eager=True)
            places.insert(0, nowhere.scatter(found[_PLACE], found[_SHARD]))
        if PERSON_ROW in accounts.columns:
            places.insert(0, of_people.gather(accounts[PERSON_ROW]))
    return pl.select(pl.coalesce(places)).to_series().alias(_SHARD)


def _leaders(accounts: pl.DataFrame) -> dict[str, str]:
    """Of people who may have the same account, the one by whom all of them are placed."""
    if CANDIDATES not in accounts.columns:
        return {}
    leader: dict[str, str] = {}

    def first(person: str) -> str:
        while leader.setdefault(person, person) != person:
            leader[person] = leader[leader[person]]
            person = leader[person]
        return person

    for one, *others in accounts[CANDIDATES].drop_nulls().unique(maintain_order=True):
        for other in others:
            leader[first(other)] = first(one)
    return {person: first(person) for person in leader}
