"""Since when accounts wait for their first sign-in."""

from __future__ import annotations

import polars as pl

from keymallet.core.facts.declaration import ACCOUNT
from keymallet.core.facts.evidence import INSTANT, notes_unread
from keymallet.core.linking.linked import LinkedReadings, LinkingRules, of_sources


def mark_awaited(linked: LinkedReadings, rules: LinkingRules) -> LinkedReadings:
    """Enter when an account was made to which nobody has signed in yet.

    None where somebody has, and where its source does not tell: what is said of accounts that are new is then
    not said of it.
    """
    accounts = linked.accounts
    since = pl.lit(None, dtype=INSTANT)
    if {"last-sign-in", "created"} <= set(accounts.columns):
        never = of_sources(linked.suppliers(ACCOUNT, "last-sign-in", "created"))
        never &= pl.col("last-sign-in").is_null() & ~notes_unread(accounts, "last-sign-in")
        since = pl.when(never).then(pl.col("created"))
    marked = accounts.with_columns(since.alias("awaited-since"))
    return linked.with_frame(ACCOUNT, marked).supplying(
        linked.suppliers(ACCOUNT), ACCOUNT, {"awaited-since": "when it was made, where nobody has signed in"}
    )
