"""The ways into accounts that another system proves: those of the account there that lead in from afar."""

from __future__ import annotations

from collections.abc import Iterator

import polars as pl

from keymallet.core.facts.declaration import ACCOUNT
from keymallet.core.facts.evidence import ACCOUNT_ROW, INSTANT, NOTHING_KNOWN, UNREAD, notes_unread
from keymallet.core.linking.federation import hops, longest
from keymallet.core.linking.linked import LinkedReadings, of_sources

UNTOLD_END = "end is unknown"
"""Helping column: whether there is an end is not known."""

_FLAGS = "enabled has-password password-empty password-locked locked".split()
_INSTANTS = "starts ends password-lapses locked-until".split()


def through_others(linked: LinkedReadings, rows: pl.DataFrame) -> Iterator[pl.DataFrame]:
    """The ways into accounts that others prove, out of all `rows` so far.

    What bars the account there bars them too: it is put into what the row says of itself, since whether a way
    is open is worked out from the row and its own account.
    """
    accounts = linked.accounts.with_row_index(ACCOUNT_ROW)
    if "federated" not in accounts.columns or not accounts["federated"].any():
        return
    federated = accounts.select(pl.col(ACCOUNT_ROW).alias("proven"), "proven-by", "federated", hops(accounts))
    provers = _provers(linked, accounts)
    own = from_afar = rows.filter(~pl.col("over").is_in(["console", "service"]).fill_null(False))
    for number in range(1, longest(federated["hops"]) + 1):
        through = (
            federated.filter(pl.col("federated") & (pl.col("hops") == number))
            .select("proven", "proven-by")
            .join(provers, on="proven-by", how="inner", maintain_order="left")
            .join(from_afar, on=ACCOUNT_ROW, how="inner", maintain_order="left")
            .drop(ACCOUNT_ROW)
            .rename({"proven": ACCOUNT_ROW})
        )
        found = _with_what_bars(through)
        yield found.select(*rows.columns, "proven-by")
        # Whoever is proven by these comes in by all their ways, those that others prove among them.
        from_afar = pl.concat([own, found.select(*rows.columns)])
    # Of several that may prove it, none is taken: it is not known what does.
    nothing = pl.lit([NOTHING_KNOWN, ACCOUNT.name], dtype=pl.List(pl.String)).alias(UNREAD)
    unsure = accounts.filter(pl.col("federated") & notes_unread(accounts, "proven-by"))
    yield unsure.select(ACCOUNT_ROW, nothing)


def _provers(linked: LinkedReadings, accounts: pl.DataFrame) -> pl.DataFrame:
    """What bars sign-ins to each account, under names of its own."""
    types = {
        **dict.fromkeys(_FLAGS, pl.Boolean()),
        **dict.fromkeys(_INSTANTS, INSTANT),
        "lock-stops": pl.String(),
    }
    absent = [pl.lit(None, dtype=t).alias(name) for name, t in types.items() if name not in accounts.columns]
    doubtful = notes_unread(accounts, "ends") | notes_unread(accounts, NOTHING_KNOWN)
    ends_told = of_sources(linked.suppliers(ACCOUNT, "ends")) & ~doubtful
    return accounts.with_columns(absent).select(
        ACCOUNT_ROW,
        pl.col("account").alias("proven-by"),
        *(pl.col(name).cast(dtype).alias(f"{name} there") for name, dtype in types.items()),
        (pl.col("ends").is_null() & ~ends_told).alias("end untold there"),
    )


def _with_what_bars(through: pl.DataFrame) -> pl.DataFrame:
    """The ways of the account there, with all that bars it."""

    def there(name: str) -> pl.Expr:
        return pl.col(f"{name} there")

    by_password = pl.col("by-password").fill_null(False)
    has_one = there("has-password") | there("password-empty").fill_null(False)
    proven = ~by_password | (has_one & ~there("password-locked").fill_null(False))
    stopped = by_password | ~(there("lock-stops") == "password").fill_null(False)
    for_good = there("locked") & there("locked-until").is_null()
    until = pl.when(stopped & there("locked")).then(there("locked-until"))
    return through.with_columns(
        pl.lit("federation").alias("over"),
        pl.lit(False).alias("by-password"),
        (pl.col("taken") & there("enabled") & proven & (~stopped | ~for_good)).alias("taken"),
        pl.max_horizontal("starts", there("starts"), until).alias("starts"),
        pl.min_horizontal("expires", there("ends"), there("password-lapses")).alias("expires"),
        (pl.col(UNTOLD_END).fill_null(False) | pl.col("end untold there")).alias(UNTOLD_END),
    )
