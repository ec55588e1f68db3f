"""The evidence on very many accounts in shards: what belongs to one person lies in one of them.

A shard is evidence like any other. Rows of accounts lie with their accounts, accounts with their people, and
people of whom it is not known which of them an account belongs to lie together. What is in force in a
source is little, and asked about by all: it lies in every shard, and is judged in the first alone.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace

import polars as pl

from keymallet.core.base.columns import is_repeated, only_where
from keymallet.core.facts.declaration import ACCOUNT, PERSON, TABLES
from keymallet.core.facts.evidence import ACCOUNT_ROW, CANDIDATES, PERSON_ROW, SHARED_ID, Evidence

LARGEST = 1_000_000
"""Up to so many accounts evidence is not divided by itself."""
ACCOUNTS_EACH = 250_000
"""How many accounts a shard has where nobody says how many shards there are to be."""
MOST_SHARDS = 10_000
"""More shards than this are nothing but files."""
_SEED = 2_654_435_761
_SHARD, _PLACE = "shard", "place"


def shards_for(accounts: int) -> int:
    """How many shards are good for so many accounts; 1 means that the evidence is not divided."""
    return 1 if accounts <= LARGEST else -(-accounts // ACCOUNTS_EACH)


def is_in_every_shard(table: str) -> bool:
    """Whether each shard has all rows of the table."""
    return not TABLES[table].owner and table != PERSON.name


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


def together(shards: Sequence[Evidence]) -> Evidence:
    """All shards as one body of evidence again, the rows of the first one first."""
    rows = {
        owner: [each.tables[owner].height if owner in each.tables else 0 for each in shards]
        for owner in (ACCOUNT.name, PERSON.name)
    }
    before = {
        owner: [sum(heights[:place]) for place in range(len(shards))] for owner, heights in rows.items()
    }
    tables = {}
    for name in shards[0].tables:
        if is_in_every_shard(name):
            tables[name] = shards[0].tables[name]
            continue
        link = f"{TABLES[name].owner}-row"
        parts = []
        for place, each in enumerate(shards):
            frame = each.tables[name].drop(SHARED_ID, strict=False)
            if link in frame.columns:
                first = before[TABLES[name].owner][place]
                frame = frame.with_columns((pl.col(link) + first).cast(pl.UInt32))
            parts.append(frame)
        tables[name] = pl.concat(parts, how="diagonal")
    return replace(shards[0], tables=tables)


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
