"""What is missing where it cannot be told of a way in: the facts of the account, its keys and factors."""

from __future__ import annotations

import polars as pl

from keymallet.core.explaining.explanation_context import ExplanationContext, QueriedRows
from keymallet.core.facts.declaration import ACCOUNT, FACTOR, KEY
from keymallet.core.facts.evidence import ACCOUNT_ROW, NOTHING_KNOWN, UNREAD
from keymallet.core.language import typed

_OF_ACCOUNT = ("enabled", "has-password", "locked", "ends", "source")


def missing_of_ways(explained: ExplanationContext, node: typed.RowQuery) -> pl.Series:
    """The facts for want of which a question about ways in is open."""
    open_rows = QueriedRows(explained, node).undecided()
    accounts = explained.context.frames[ACCOUNT.name]
    numbered = accounts.with_row_index(ACCOUNT_ROW)
    facts = numbered.select(ACCOUNT_ROW, *_OF_ACCOUNT, *_unread(accounts))
    ends_told = explained.context.lowering.is_source_of(
        ACCOUNT.name, explained.context.evidence.suppliers(ACCOUNT.name, "ends")
    )
    facts = facts.with_columns(ends_told=ends_told).rename({name: f"account {name}" for name in _OF_ACCOUNT})
    joined = open_rows.join(facts, on=ACCOUNT_ROW, how="left", maintain_order="left", suffix=" of account")
    parts = [pl.when(where).then(pl.lit(said)) for said, where in _wanting(joined).items()]
    told = joined.select(ACCOUNT_ROW, pl.concat_list(parts).list.drop_nulls().alias("said"))
    named = (
        told.explode("said")
        .drop_nulls()
        .unique(maintain_order=True)
        .group_by(ACCOUNT_ROW, maintain_order=True)
        .agg(pl.col("said").str.join(", "))
    )
    asked = explained.rows.alias(ACCOUNT_ROW).to_frame()
    subjects = asked.join(named, on=ACCOUNT_ROW, how="left", maintain_order="left")
    source = accounts["source"].cast(pl.String).gather(explained.rows)
    both = subjects.with_columns(source=source)
    said = pl.col("said").fill_null("ways in")
    return both.select(pl.format("{} (not known in {})", said, "source").alias("=")).to_series()


def _unread(accounts: pl.DataFrame) -> list[str]:
    return [UNREAD] if UNREAD in accounts.columns else []


def _wanting(joined: pl.DataFrame) -> dict[str, pl.Expr]:
    """What may be missing of a way that cannot be decided, in words, and where it is."""
    unread = pl.col(UNREAD) if UNREAD in joined.columns else pl.lit(None, dtype=pl.List(pl.String))

    def notes(word: str) -> pl.Expr:
        return unread.list.contains(pl.lit(word)).fill_null(False)

    unknown = notes(NOTHING_KNOWN)
    known = ~unknown
    by_password = pl.col("by-password").fill_null(False)
    by_key = pl.col("key").is_not_null()
    of_account = f"{UNREAD} of account"
    ends_unread = (
        pl.col(of_account).list.contains(pl.lit("ends")).fill_null(False)
        if of_account in joined.columns
        else pl.lit(False)
    )
    return {
        KEY.name: unknown & notes(KEY.name),
        FACTOR.name: unknown & notes(FACTOR.name),
        "proven-by": unknown & notes(ACCOUNT.name),
        "enabled": pl.col("account enabled").is_null(),
        "locked": pl.col("account locked").is_null(),
        "ends": pl.col("account ends").is_null() & (~pl.col("ends_told") | ends_unread),
        "has-password": by_password & pl.col("account has-password").is_null(),
        "second-factor-required": known & pl.col("takes").is_null(),
        "remote-password": known & by_password & pl.col("taken").is_null(),
        "remote-key": known & ~by_password & by_key & pl.col("taken").is_null(),
        "key.state": known & by_key & pl.col("state").is_null(),
        "factor.state": known & ~by_key & pl.col("state").is_null(),
        "key.expires": known & notes("expires"),
    }
