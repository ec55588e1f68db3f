"""The keys by which accounts and people are held against each other, as an estate declares it."""

from __future__ import annotations

import polars as pl

from keymallet.core.linking.declared import Federation, MatchRule, SourcePair


def account_key(rule: MatchRule) -> pl.Expr:
    """The part of an account's fact by which a rule looks for its person; null where it does not fit."""
    before, _, after = rule.like.lower().partition("*")
    value = pl.col(rule.account).str.strip_chars().str.to_lowercase()
    fits = value.str.starts_with(before) & value.str.ends_with(after)
    piece = value.str.strip_prefix(before).str.strip_suffix(after)
    return pl.when(fits & (piece != "")).then(piece)


def login_key() -> pl.Expr:
    """What of an account is held against others, by a rule that looks for a login elsewhere."""
    return pl.col("name").str.strip_chars().str.to_lowercase()


def person_key(rule: MatchRule) -> tuple[str, pl.Expr]:
    """The fact of people that a rule goes by, and what of it is held against accounts."""
    fact = "mail" if rule.person == "mail-name" else rule.person
    key = pl.col(fact)
    if rule.person == "mail-name":
        key = key.str.extract(r"^([^@]+)@", 1)
    return fact, key.str.strip_chars().str.to_lowercase()


def shared_key(declared: SourcePair | Federation) -> pl.Expr:
    """What two accounts have in common that are twins, or of which one proves the other."""
    key = pl.col(declared.by).cast(pl.String).str.strip_chars()
    return key.str.to_lowercase() if declared.by == "mail" or declared.ignore_case else key
