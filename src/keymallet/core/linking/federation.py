"""Accounts that another system proves: which account there, and with which factors it can be proven.

An account without a password of its own that signs in through a directory is as safe as the account there:
whoever takes over that one has both.
"""

from __future__ import annotations

from typing import Any

import polars as pl

from keymallet.core.base.source_names import is_of
from keymallet.core.facts.declaration import ACCOUNT, FACTOR
from keymallet.core.facts.evidence import ACCOUNT_ROW, NOTHING_KNOWN, in_full, notes_unread, with_unread
from keymallet.core.facts.reading import Reading
from keymallet.core.linking.declared import Federation
from keymallet.core.linking.linked import LinkedReadings, LinkingRules, of_sources
from keymallet.core.linking.matching_keys import shared_key

_FOUND: dict[str, Any] = {
    "row": pl.UInt32,
    "proven-by": pl.String,
    "unsure": pl.Boolean,
    "proven-with": pl.List(pl.String),
    "federated": pl.Boolean,
}
RESULTS = ("federated", "proven-by", "proven-with")
_LIST = pl.List(pl.String)


def find_provers(linked: LinkedReadings, rules: LinkingRules) -> LinkedReadings:
    """Enter of each account whether another proves it, which, and with which factors."""
    accounts = linked.accounts.with_row_index("row")
    parts = []
    if rules.federations:
        held = _factors_of_each(linked)
        parts = [_proven(federation, linked, accounts, held) for federation in rules.federations]
    parts.append(pl.DataFrame(schema=_FOUND))
    found = pl.concat(parts).unique("row", keep="first")
    matched = accounts.select("row", "account").join(found, on="row", how="left", maintain_order="left")
    if rules.federations:
        matched = _along_chains(matched, held)
    finished = linked.accounts.with_columns(
        matched["federated"].fill_null(False),
        matched["proven-by"],
        matched.select(
            pl.when(pl.col("federated").is_null()).then(pl.lit([], dtype=_LIST)).otherwise("proven-with")
        )
        .to_series()
        .alias("proven-with"),
    )
    unsure = matched["unsure"].fill_null(False)
    untold = {
        "proven-by": unsure,
        "proven-with": unsure | (matched["proven-by"].is_not_null() & matched["proven-with"].is_null()),
    }
    marked = with_unread(finished, {name: where for name, where in untold.items() if where.any()})
    linked = linked.with_frame(ACCOUNT, marked)
    return linked.supplying(linked.suppliers(ACCOUNT), ACCOUNT, dict.fromkeys(RESULTS, "the estate"))


def hops(accounts: pl.DataFrame) -> pl.Series:
    """How many accounts prove each, one the other: 0 where it is proven by none; null where they go round."""
    number = pl.when(pl.col("proven-by").is_null()).then(pl.lit(0, dtype=pl.Int64)).alias("hops")
    chained = accounts.select("account", "proven-by", number)
    while True:
        there = chained.select(pl.col("account").alias("proven-by"), before="hops")
        further = chained.join(there, on="proven-by", how="left", maintain_order="left").with_columns(
            pl.coalesce("hops", pl.col("before") + 1).alias("hops")
        )
        if further["hops"].null_count() == chained["hops"].null_count():
            return chained["hops"]
        chained = further.drop("before")


def longest(number_of_hops: pl.Series) -> int:
    """The most hops that any account is proven by."""
    most = number_of_hops.max()
    return most if isinstance(most, int) else 0


def _along_chains(matched: pl.DataFrame, held: pl.DataFrame) -> pl.DataFrame:
    """With what proves the accounts that prove: whoever is proven by one that is proven by another, by both.

    Where accounts prove each other in a circle, it is not known what does.
    """
    matched = matched.with_columns(hops(matched).alias("hops"))
    circle = pl.col("hops").is_null()
    matched = matched.with_columns(
        pl.when(~circle).then("proven-by").alias("proven-by"),
        pl.when(~circle).then("proven-with").alias("proven-with"),
        (pl.col("unsure") | circle).alias("unsure"),
    )
    for number in range(2, longest(matched["hops"]) + 1):
        there = matched.select(
            pl.col("account").alias("proven-by"),
            pl.when(~pl.col("unsure")).then("proven-with").alias("with there"),
        )
        longer = matched.join(there, on="proven-by", how="left", maintain_order="left")
        both = pl.col("proven-with").list.set_union("with there").list.sort()
        here = pl.col("hops") == number
        matched = longer.with_columns(
            pl.when(here).then(both).otherwise("proven-with").alias("proven-with")
        ).drop("with there")
    return matched


def _proven(
    federation: Federation, linked: LinkedReadings, accounts: pl.DataFrame, held: pl.DataFrame
) -> pl.DataFrame:
    """The accounts that a federation is for: each with the one account that proves it, if it is one."""
    told = in_full(ACCOUNT, accounts, (federation.by, "has-password", "password-empty"))
    keyed = told.with_columns(key=shared_key(federation))

    def readings(declared: str) -> list[Reading]:
        return [reading for reading in linked.readings if is_of(reading.source, declared)]

    def of(declared: str) -> pl.DataFrame:
        return keyed.filter(of_sources(reading.source for reading in readings(declared)))

    # Who has a password of their own there can come in without the other system.
    own = pl.col("has-password").fill_null(False) | pl.col("password-empty").fill_null(False)
    theirs = of(federation.proven_by).filter(pl.col("key").is_not_null())
    provers = theirs.group_by("key").agg(
        pl.len().alias("number"), pl.col("account").first(), pl.col("row").first().alias("prover")
    )
    joined = of(federation.source).filter(~own).select("row", "key").join(provers, on="key", how="left")
    # Who is not there may yet be among what was not read there.
    there = readings(federation.proven_by)
    is_whole = bool(there) and not any(reading.failed or reading.incomplete for reading in there)
    number, alone = pl.col("number"), pl.col("number") == 1
    one = joined.with_columns(
        pl.when(alone).then("account").alias("proven-by"),
        pl.when(alone).then("prover").alias("prover"),
        unsure=(number > 1).fill_null(not is_whole) | pl.col("key").is_null(),
    )
    with_factors = one.join(held, left_on="prover", right_on=ACCOUNT_ROW, how="left")
    # Without an account that could prove it, nobody signs in that way: it is federated, and proven by none.
    nobody = number.is_null() & ~pl.col("unsure")
    return with_factors.select(
        "row",
        "proven-by",
        "unsure",
        pl.when(nobody).then(pl.lit([], dtype=_LIST)).otherwise("proven-with").alias("proven-with"),
        federated=pl.lit(True),
    )


def _factors_of_each(linked: LinkedReadings) -> pl.DataFrame:
    """The kinds of factors that work, for each account whose factors are all told."""
    accounts = linked.accounts.select(
        pl.int_range(pl.len(), dtype=pl.UInt32).alias(ACCOUNT_ROW),
        told=of_sources(linked.suppliers(FACTOR)),
    )
    factors = linked.frame(FACTOR)
    none = pl.lit([], dtype=_LIST)
    if factors is None:
        return accounts.select(ACCOUNT_ROW, pl.when("told").then(none).alias("proven-with"))
    blind = notes_unread(factors, NOTHING_KNOWN)
    columns = [name for name in ("kind", "state") if name not in factors.columns]
    factors = factors.with_columns(pl.lit(None, dtype=pl.String).alias(name) for name in columns)
    works = (pl.col("state").cast(pl.String) == "active") & ~blind
    held = factors.group_by(ACCOUNT_ROW).agg(
        pl.col("kind")
        .cast(pl.String)
        .filter(works.fill_null(False))
        .drop_nulls()
        .unique()
        .sort()
        .alias("kinds"),
        # A factor of which the kind or the state is not known might be any.
        unsure=(works.is_null() | (works & pl.col("kind").is_null()) | blind).any(),
    )
    both = accounts.join(held, on=ACCOUNT_ROW, how="left", maintain_order="left")
    known = pl.col("told") & ~pl.col("unsure").fill_null(False)
    return both.select(ACCOUNT_ROW, pl.when(known).then(pl.coalesce("kinds", none)).alias("proven-with"))
