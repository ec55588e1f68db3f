"""Failed sign-ins: how often they would have locked an account, and the shapes that attacks have."""

from __future__ import annotations

from datetime import timedelta

import polars as pl

from keymallet.core.facts.declaration import ACCOUNT, SETTING, SIGN_IN
from keymallet.core.facts.evidence import ACCOUNT_ROW
from keymallet.core.linking.linked import LinkedReadings, LinkingRules
from keymallet.core.linking.settings_in_force import settings_in_force

HOUR = timedelta(hours=1)
MANY_ACCOUNTS, MANY_FAILURES = 10, 20
"""From so many accounts on, one origin is trying them out; from so many failures on, somebody is at one."""


def count_locks(linked: LinkedReadings, rules: LinkingRules) -> LinkedReadings:
    """Enter on accounts how often failures have locked them, as far as sign-ins and settings tell.

    Failures follow one another within the window of the setting in force, with no success between; each
    full number that locks is a lock. Null where no such setting, or no sign-in, is known of.
    """
    sign_ins, settings = linked.frame(SIGN_IN), linked.frame(SETTING)
    suppliers = linked.suppliers(SIGN_IN, "at", "outcome")
    accounts = linked.accounts
    if sign_ins is None or settings is None or not suppliers or "lock-after" not in settings.columns:
        return linked
    row = settings_in_force(_whole(accounts), settings)
    within = settings["count-within"] if "count-within" in settings.columns else None
    known = pl.DataFrame(
        {
            ACCOUNT_ROW: pl.int_range(accounts.height, dtype=pl.UInt32, eager=True),
            "locks": settings["lock-after"].gather(row),
            "within": pl.Series([None], dtype=pl.Duration("us")).new_from_index(0, accounts.height)
            if within is None
            else within.gather(row),
        }
    )
    counted = locks_by_failures(sign_ins, known)
    located = known.join(counted, on=ACCOUNT_ROW, how="left", maintain_order="left").with_columns(
        accounts["source"]
    )
    here = pl.col("source").cast(pl.String).is_in(suppliers)
    times = pl.when(here & pl.col("locks").is_not_null()).then(pl.col("times").fill_null(0))
    entered = located.select(times.alias("locked-before")).to_series()
    linked = linked.with_frame(ACCOUNT, accounts.with_columns(entered))
    return linked.supplying(suppliers, ACCOUNT, {"locked-before": "sign-ins, by the setting in force"})


def _whole(accounts: pl.DataFrame) -> pl.DataFrame:
    """The accounts with all columns by which it is told which setting is in force for them."""
    kinds = {"name": pl.String(), "groups": pl.List(pl.String), "kind": pl.String()}
    absent = [
        pl.lit(None, dtype=kind).alias(name) for name, kind in kinds.items() if name not in accounts.columns
    ]
    return accounts.with_columns(absent)


def locks_by_failures(sign_ins: pl.DataFrame, known: pl.DataFrame) -> pl.DataFrame:
    """How many times failures locked each account that has any: ACCOUNT_ROW, `times`.

    `known` has for each ACCOUNT_ROW how many failures lock (`locks`) and `within` what stretch they
    are counted together (null: however far apart). `sign_ins` has ACCOUNT_ROW, `at` and `outcome`.
    """
    ordered = sign_ins.select(
        ACCOUNT_ROW, "at", failed=pl.col("outcome").cast(pl.String) == "failure"
    ).drop_nulls()
    ordered = (
        ordered.join(known, on=ACCOUNT_ROW, how="inner").filter(pl.col("locks") > 0).sort(ACCOUNT_ROW, "at")
    )
    same = pl.col(ACCOUNT_ROW) == pl.col(ACCOUNT_ROW).shift()
    apart = (pl.col("at") - pl.col("at").shift() > pl.col("within")).fill_null(False)
    # A run of failures ends with the account, with the window, and with every success.
    begins = ~same.fill_null(False) | apart | ~pl.col("failed") | ~pl.col("failed").shift().fill_null(True)
    runs = ordered.with_columns(begins.cast(pl.UInt32).cum_sum().alias("run")).filter("failed")
    per_run = runs.group_by(ACCOUNT_ROW, "run").agg((pl.len() // pl.col("locks").first()).alias("times"))
    return per_run.group_by(ACCOUNT_ROW).agg(pl.col("times").sum().cast(pl.Int64))


def on_many(failures: pl.DataFrame) -> pl.DataFrame:
    """Origins that failed on many accounts: `origin`, `accounts`, `failures`, `from`, `to`.

    Failures of one origin are one attempt while no hour lies between them. `failures` has ACCOUNT_ROW,
    `at` and `origin`. The widest first.
    """
    runs = _runs(failures.drop_nulls(["origin", "at"]), "origin")
    attempts = runs.group_by("origin", "run").agg(
        pl.col(ACCOUNT_ROW).n_unique().cast(pl.Int64).alias("accounts"), *_extent()
    )
    wide = attempts.filter(pl.col("accounts") >= MANY_ACCOUNTS).drop("run")
    return wide.sort("accounts", "origin", "from", descending=[True, False, False])


def on_one(failures: pl.DataFrame) -> pl.DataFrame:
    """Accounts on which many sign-ins failed, one after the other.

    Gives ACCOUNT_ROW, `failures`, `origins`, `from` and `to`, the account with the most failures first.
    """
    runs = _runs(failures.drop_nulls([ACCOUNT_ROW, "at"]), ACCOUNT_ROW)
    attempts = runs.group_by(ACCOUNT_ROW, "run").agg(
        pl.col("origin").drop_nulls().n_unique().cast(pl.Int64).alias("origins"), *_extent()
    )
    deep = attempts.filter(pl.col("failures") >= MANY_FAILURES).drop("run")
    return deep.sort("failures", ACCOUNT_ROW, "from", descending=[True, False, False])


def _runs(failures: pl.DataFrame, key: str) -> pl.DataFrame:
    """The failures with the number of the run of their key that each is in."""
    ordered = failures.sort(key, "at")
    same = (pl.col(key) == pl.col(key).shift()).fill_null(False)
    begins = ~same | (pl.col("at") - pl.col("at").shift() > HOUR)
    return ordered.with_columns(begins.cast(pl.UInt32).cum_sum().alias("run"))


def _extent() -> list[pl.Expr]:
    at = pl.col("at")
    return [pl.len().cast(pl.Int64).alias("failures"), at.min().alias("from"), at.max().alias("to")]
