"""The evidence on very many accounts in shards: what belongs to one person lies in one of them.

A shard is evidence like any other. Rows of accounts lie with their accounts, accounts with their people, and
people of whom it is not known which of them an account belongs to lie together. What is in force in a
source is little, and asked about by all: it lies in every shard, and is judged in the first alone.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import polars as pl

from keymallet.core.facts.declaration import ACCOUNT, PERSON, TABLES
from keymallet.core.facts.evidence import SHARED_ID, Evidence

LARGEST = 1_000_000
"""Up to so many accounts evidence is not divided by itself."""
ACCOUNTS_EACH = 250_000
"""How many accounts a shard has where nobody says how many shards there are to be."""
MOST_SHARDS = 10_000
"""More shards than this are nothing but files."""


def shards_for(accounts: int) -> int:
    """How many shards are good for so many accounts; 1 means that the evidence is not divided."""
    return 1 if accounts <= LARGEST else -(-accounts // ACCOUNTS_EACH)


def is_in_every_shard(table: str) -> bool:
    """Whether each shard has all rows of the table."""
    return not TABLES[table].owner and table != PERSON.name


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
