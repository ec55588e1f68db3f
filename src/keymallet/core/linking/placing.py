"""In which shard accounts and people belong: whoever linking may hold together lies in one.

Accounts of one person, accounts and the people they may be tied to, twins, and accounts that prove others:
each such relation goes by a key that both sides have. Rows with a key in common lie in one shard, and so do
rows that are joined by others, however long the chain. Whatever else linking finds out about other accounts
is told between shards.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import polars as pl

from keymallet.core.base.source_names import is_of
from keymallet.core.linking.declared import Federation, MatchRule, SourcePair
from keymallet.core.linking.linked import LinkingRules
from keymallet.core.linking.matching_keys import account_key, login_key, person_key, shared_key

_SEED = 11_400_714_819_323_198_485
_OWN, _PERSON, _RELATIONS = 0, 1, 2
"""What a key is of; relations are numbered from the last on."""


def keys_of_accounts(source: str, accounts: pl.DataFrame, rules: LinkingRules) -> list[pl.Series]:
    """The keys of one source's accounts, as hashes, its own last; null where an account has no such key."""
    keys = []
    if "person" in accounts.columns:
        keys.append(_hashed(accounts, pl.col("person"), _PERSON))
    for number, relation in enumerate(_relations(rules), _RELATIONS):
        for key in _keys_in(relation, source, accounts):
            keys.append(_hashed(accounts, key, number))
    own = pl.lit(source + "/") + pl.col("name")
    return [*keys, _hashed(accounts, own, _OWN)]


def keys_of_people(people: pl.DataFrame, rules: LinkingRules) -> list[pl.Series]:
    """The keys of people on a roster, as hashes, their own last; null where they have no such key."""
    keys = []
    for number, relation in enumerate(_relations(rules), _RELATIONS):
        if isinstance(relation, MatchRule) and not relation.login_in:
            fact, key = person_key(relation)
            if fact in people.columns:
                keys.append(_hashed(people, key, number))
    return [*keys, _hashed(people, pl.col("person"), _PERSON)]


def columns_of_keys(rules: LinkingRules) -> dict[str, set[str]]:
    """The columns by table that keys are made of."""
    accounts, people = {"name", "person"}, {"person"}
    for relation in _relations(rules):
        if isinstance(relation, MatchRule):
            accounts.add(relation.account)
            people |= set() if relation.login_in else {person_key(relation)[0]}
        else:
            accounts.add(relation.by)
    return {"account": accounts, "person": people}


def _relations(rules: LinkingRules) -> tuple[MatchRule | SourcePair | Federation, ...]:
    return (*rules.match_rules, *rules.pairs, *rules.federations)


def _keys_in(
    relation: MatchRule | SourcePair | Federation, source: str, accounts: pl.DataFrame
) -> Iterator[pl.Expr]:
    """The keys by which a source's accounts stand in a relation."""
    match relation:
        case MatchRule():
            if relation.covers(source) and relation.account in accounts.columns:
                yield account_key(relation)
            if relation.login_in and is_of(source, relation.login_in):
                yield login_key()
        case SourcePair():
            if any(is_of(source, each) for each in relation.sources) and relation.by in accounts.columns:
                yield shared_key(relation)
        case Federation():
            sides = (relation.source, relation.proven_by)
            if any(is_of(source, each) for each in sides) and relation.by in accounts.columns:
                yield shared_key(relation)


def _hashed(rows: pl.DataFrame, key: pl.Expr, of: int) -> pl.Series:
    written = key.cast(pl.String)
    hashed = pl.when(written.is_not_null()).then(written.hash((_SEED + of) % 2**64))
    return rows.select(hashed.alias("key")).to_series()


class Placing:
    """Finds the shard of each row, once the keys of all rows are told."""

    def __init__(self, shards: int) -> None:
        self._shards = shards
        self._edges: list[pl.DataFrame] = []
        self._leaders: pl.DataFrame | None = None

    def tell(self, keys: Sequence[pl.Series], *, alone: bool) -> pl.Series:
        """Take note of the keys of some rows; gives the one by which each will be found again.

        With `alone`, no other row has the last one: it only counts for rows that have none besides.
        """
        first = pl.select(pl.coalesce(*keys)).to_series().alias("one")
        for key in keys[:-1] if alone else keys:
            both = pl.DataFrame({"one": first, "other": key}).drop_nulls()
            joined = both.filter(pl.col("one") != pl.col("other")).unique()
            if joined.height:
                self._edges.append(joined)
        return first

    def shards_of(self, first: pl.Series) -> pl.Series:
        """The shards of rows by the keys that `tell` gave, once everything is told."""
        if self._leaders is None:
            self._leaders = _leaders(self._edges)
            self._edges = []
        keys = first.to_frame("key")
        if self._leaders.height:
            keys = keys.join(self._leaders, on="key", how="left", maintain_order="left")
            keys = keys.select(pl.coalesce("leader", "key").alias("key"))
        return keys.select((pl.col("key") % self._shards).cast(pl.UInt16)).to_series().alias("shard")


def _leaders(edges: Sequence[pl.DataFrame]) -> pl.DataFrame:
    """Of all keys that are joined to others, the `leader` of those they are joined to, however far."""
    schema = {"key": pl.UInt64, "leader": pl.UInt64}
    if not edges:
        return pl.DataFrame(schema=schema)
    pairs = pl.concat(edges).unique()
    keys = pl.concat([pairs["one"], pairs["other"].alias("one")]).unique().sort()
    one, other = keys.search_sorted(pairs["one"]), keys.search_sorted(pairs["other"])
    leader = pl.int_range(len(keys), dtype=pl.UInt32, eager=True)
    while True:
        led = pl.DataFrame({"one": leader.gather(one), "other": leader.gather(other)})
        apart = led.filter(pl.col("one") != pl.col("other"))
        if not apart.height:
            return pl.DataFrame({"key": keys, "leader": keys.gather(leader)}, schema=schema)
        # Every leader of a pair follows the least one it is paired with, and all follow theirs to the end.
        low, high = pl.min_horizontal("one", "other"), pl.max_horizontal("one", "other")
        least = apart.group_by(high.alias("high")).agg(low.min().alias("low"))
        leader = leader.scatter(least["high"], least["low"])
        while True:
            further = leader.gather(leader)
            if further.equals(leader):
                break
            leader = further
