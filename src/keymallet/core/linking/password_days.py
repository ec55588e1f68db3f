"""How many passwords of a source were set at the same time, beyond what is usual."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import time

import polars as pl

from keymallet.core.facts.declaration import ACCOUNT
from keymallet.core.linking.linked import LinkedReadings, LinkingRules

USUAL_OF_DAYS, USUAL_OF_HOURS = 3, 10
"""How many times what is set on the mean may be set on one day, or in one hour, without being a batch.

People work by day: their hours differ more from each other than their days.
"""


@dataclass(frozen=True)
class PasswordTimes:
    """When passwords were set, by `source`.

    `sources` says whether it `tells_days` alone, and the `first` and the `last` time; `times` has for each
    `at`, a day or an hour, the `number` that were set on it.
    """

    sources: pl.DataFrame
    times: pl.DataFrame


def password_times(linked: LinkedReadings, rules: LinkingRules, _: None) -> PasswordTimes | None:
    """The times by this part's accounts, hour by hour: what other parts tell says whether days are meant."""
    accounts = linked.accounts
    if not linked.suppliers(ACCOUNT, "password-changed") or "password-changed" not in accounts.columns:
        return None
    changed = pl.col("password-changed")
    told = accounts.select("source", changed).drop_nulls()
    told = told.with_columns(changed.dt.convert_time_zone(rules.clock.key).alias(_LOCAL))
    at_midnight = (pl.col(_LOCAL).dt.time() == time()) | (changed.dt.time() == time())
    sources = told.group_by("source").agg(
        at_midnight.all().alias("tells_days"),
        pl.col(_LOCAL).min().alias("first"),
        pl.col(_LOCAL).max().alias("last"),
    )
    times = told.group_by("source", pl.col(_LOCAL).dt.truncate("1h").alias("at")).len("number")
    return PasswordTimes(sources, times)


_LOCAL = "local"


def all_times(parts: Sequence[PasswordTimes]) -> PasswordTimes:
    """The times by all parts, in days where a source tells no more."""
    sources = pl.concat([part.sources for part in parts])
    of_all = sources.group_by("source").agg(
        pl.col("tells_days").all(), pl.col("first").min(), pl.col("last").max()
    )
    return PasswordTimes(of_all, pl.concat([part.times for part in parts]))


def count_password_days(
    linked: LinkedReadings, rules: LinkingRules, told: PasswordTimes | None
) -> LinkedReadings:
    """Enter how many others of the same source had their password set at the same time, beyond what is usual.

    That is in the same hour, or on the same day where a source tells only days. Of many accounts, some change
    theirs at any time: so many times what the other hours or days have on the mean do not count.
    """
    if told is None:
        return linked
    changed = pl.col("password-changed")
    local = changed.dt.convert_time_zone(rules.clock.key)
    times = told.times.rename({"at": _LOCAL}).join(told.sources, on="source", how="left")
    day = pl.col(_LOCAL).dt.truncate("1d")
    times = times.with_columns(at=pl.when("tells_days").then(day).otherwise(_LOCAL))
    together = pl.col("together")
    counted = (
        times.group_by("source", "at", "tells_days", "first", "last")
        .agg(pl.col("number").sum().cast(pl.Int64).alias("together"))
        .with_columns(
            (together.sum().over("source") - together).alias("elsewhen"),
            stretch=pl.col("last") - pl.col("first"),
        )
    )
    days, hours = pl.col("stretch").dt.total_days() + 1, pl.col("stretch").dt.total_hours() + 1
    usual = (
        pl.when("tells_days")
        .then(USUAL_OF_DAYS * pl.col("elsewhen") // days)
        .otherwise(USUAL_OF_HOURS * pl.col("elsewhen") // hours)
    )
    beyond = counted.select(
        "source", "at", pl.max_horizontal(together - 1 - usual, pl.lit(0, dtype=pl.Int64)).alias(_SET_WITH)
    )
    at = local.dt.truncate("1h")
    by_days = told.sources.filter("tells_days")["source"]
    if len(by_days):
        at = pl.when(pl.col("source").is_in(by_days.implode())).then(local.dt.truncate("1d")).otherwise(at)
    asked = linked.accounts.select("source", at=at)
    found = asked.join(beyond, on=["source", "at"], how="left", maintain_order="left")[_SET_WITH]
    suppliers = linked.suppliers(ACCOUNT, "password-changed")
    return linked.with_frame(ACCOUNT, linked.accounts.with_columns(found)).supplying(
        suppliers, ACCOUNT, {_SET_WITH: "all passwords side by side"}
    )


_SET_WITH = "password-set-with"
