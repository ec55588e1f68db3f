"""Who came, went, or has another name from one evidence to the next: accounts, and people of the roster."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass

import polars as pl

from keymallet.core.facts.declaration import ACCOUNT, PERSON
from keymallet.core.facts.evidence import Evidence
from keymallet.core.history.identity import account_keys


@dataclass(frozen=True)
class Moves:
    """Names of accounts that appeared, vanished, or were not seen because their source was not whole;
    old and new names of those that were renamed; people who joined the roster, and who left it."""

    appeared: pl.Series
    vanished: pl.Series
    unseen: pl.Series
    renamed: list[tuple[str, str]]
    joined: pl.Series
    left: pl.Series


def moves_between(before: Evidence, after: Evidence, not_whole: Collection[str]) -> Moves:
    """Hold the accounts and people of two bodies of evidence against each other.

    Of the sources that are `not_whole` in the later one, what is missing may still be there.
    """
    old, new = (_accounts(each) for each in (before, after))
    gone = old.join(new, on="key", how="anti", maintain_order="left")
    came = new.join(old, on="key", how="anti", maintain_order="left")
    # Where a source gives lasting ids only on one side, the name tells.
    names = gone.join(came, on="account", how="inner")["account"]
    gone, came = (frame.filter(~pl.col("account").is_in(names.implode())) for frame in (gone, came))
    both = old.join(new, on="key", how="inner", suffix="-now", maintain_order="left")
    renamed = both.filter(pl.col("account") != pl.col("account-now")).select("account", "account-now").rows()
    open_ones = pl.col("source").is_in(list(not_whole))
    people = [_people(each) for each in (before, after)]
    return Moves(
        came["account"],
        gone.filter(~open_ones)["account"],
        gone.filter(open_ones)["account"],
        renamed,
        people[1].join(people[0], on="person", how="anti", maintain_order="left")["name"],
        people[0].join(people[1], on="person", how="anti", maintain_order="left")["name"],
    )


def _accounts(evidence: Evidence) -> pl.DataFrame:
    accounts = evidence.tables[ACCOUNT.name]
    keys = account_keys(accounts).alias("key")
    return accounts.select("account", pl.col("source").cast(pl.String)).with_columns(keys)


def _people(evidence: Evidence) -> pl.DataFrame:
    people = evidence.tables.get(PERSON.name)
    if people is None:
        return pl.DataFrame(schema={"person": pl.String, "name": pl.String})
    told = people.select("person", pl.coalesce("name", "person").alias("name"))
    return told.drop_nulls("person").unique("person", keep="first", maintain_order=True)
