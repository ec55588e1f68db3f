"""Keys, devices and passwords that accounts of several people have in common, over all sources."""

from __future__ import annotations

from datetime import time

import polars as pl

from keymallet.core.facts.declaration import ACCOUNT, FACTOR, KEY
from keymallet.core.facts.evidence import ACCOUNT_ROW
from keymallet.core.linking.linked import LinkedReadings, LinkingRules

MOST_SHARED = 10
"""How many accounts are named that share a key; naming all of many for each of many would be their square."""


def mark_shared_keys(linked: LinkedReadings, rules: LinkingRules) -> LinkedReadings:
    """Enter, for each key, which accounts of other people hold the same one, and whether a root does."""
    suppliers = linked.suppliers(KEY, "digest")
    held = linked.frame(KEY)
    # A source that has no keys at all supplies every column of them: that is no column in any frame.
    if held is None or not suppliers or "digest" not in held.columns:
        return linked
    keys, shared = _with_sharers(held, linked.accounts, "digest")
    of_root = shared.filter(pl.col("root").any().over("value")).select(_PLACE, root=True)
    marked = keys.join(of_root, on=_PLACE, how="left", maintain_order="left")
    by_root = pl.when(pl.col("digest").is_not_null()).then(pl.col("root").fill_null(False))
    finished = marked.with_columns(by_root.alias("shared-with-root")).drop(_PLACE, "root")
    how = "the same key, over all sources"
    return linked.with_frame(KEY, finished).supplying(
        suppliers, KEY, {"shared-with": how, "shared-with-root": how}
    )


def mark_shared_devices(linked: LinkedReadings, rules: LinkingRules) -> LinkedReadings:
    """Enter, for each factor, which accounts of other people are proven by the same device.

    Where no device is told, a label that looks like a serial number stands for one.
    """
    suppliers = {*linked.suppliers(FACTOR, "device"), *linked.suppliers(FACTOR, "label")}
    factors = linked.frame(FACTOR)
    if factors is None or not suppliers or not {"device", "label"} & set(factors.columns):
        return linked
    devices = [pl.col(name) for name in ("device",) if name in factors.columns]
    if "label" in factors.columns:
        devices.append(pl.when(pl.col("label").str.contains(_A_SERIAL)).then(pl.col("label")))
    with_device = factors.with_columns(pl.coalesce(devices).alias(_DEVICE))
    marked, _ = _with_sharers(with_device, linked.accounts, _DEVICE)
    return linked.with_frame(FACTOR, marked.drop(_PLACE, _DEVICE)).supplying(
        suppliers, FACTOR, {"shared-with": "the same device, over all sources"}
    )


_DEVICE = "device or serial"
_A_SERIAL = r"\d{5,}|\d[\dA-Fa-f]{7,}"
"""Five figures in a row, or eight of a hexadecimal number: `SN 10482233`, not `my phone 2`."""


def mark_shared_passwords(linked: LinkedReadings, rules: LinkingRules) -> LinkedReadings:
    """Enter which accounts of other people have accounts with the same password, and take the digests away.

    What a password is stored as is nobody's business once copies have been seen.
    """
    suppliers = linked.suppliers(ACCOUNT, _DIGEST)
    accounts = linked.accounts
    if suppliers and _DIGEST in accounts.columns:
        held = accounts.select(pl.int_range(pl.len(), dtype=pl.UInt32).alias(ACCOUNT_ROW), _DIGEST)
        marked, _ = _with_sharers(held, accounts, _DIGEST)
        accounts = accounts.with_columns(marked["shared-with"].alias("password-shared-with"))
        how = "the same password, over all sources"
        linked = linked.supplying(suppliers, ACCOUNT, {"password-shared-with": how})
    kept = accounts.drop(_DIGEST, strict=False)
    return linked.with_frame(ACCOUNT, kept).no_longer_supplying(ACCOUNT, _DIGEST)


_DIGEST = "password-digest"


USUAL_OF_DAYS, USUAL_OF_HOURS = 3, 10
"""How many times what is set on the mean may be set on one day, or in one hour, without being a batch.

People work by day: their hours differ more from each other than their days.
"""


def count_password_days(linked: LinkedReadings, rules: LinkingRules) -> LinkedReadings:
    """Enter how many others of the same source had their password set at the same time, beyond what is usual.

    That is in the same hour, or on the same day where a source tells only days. Of many accounts, some change
    theirs at any time: so many times what the other hours or days have on the mean do not count.
    """
    suppliers = linked.suppliers(ACCOUNT, "password-changed")
    if not suppliers or "password-changed" not in linked.accounts.columns:
        return linked
    changed = pl.col("password-changed")
    local = changed.dt.convert_time_zone(rules.clock.key)
    tells_days = (((local.dt.time() == time()) | (changed.dt.time() == time())).all()).over("source")
    bucket = pl.when(tells_days).then(local.dt.truncate("1d")).otherwise(local.dt.truncate("1h"))
    together = changed.count().over("source", bucket).cast(pl.Int64)
    stretch = local.max() - local.min()
    days, hours = stretch.dt.total_days().over("source") + 1, stretch.dt.total_hours().over("source") + 1
    elsewhen = changed.count().over("source").cast(pl.Int64) - together
    usual = (
        pl.when(tells_days)
        .then(USUAL_OF_DAYS * elsewhen // days)
        .otherwise(USUAL_OF_HOURS * elsewhen // hours)
    )
    beyond = pl.max_horizontal(together - 1 - usual, pl.lit(0, dtype=pl.Int64))
    counted = pl.when(changed.is_not_null()).then(beyond).alias("password-set-with")
    return linked.with_frame(ACCOUNT, linked.accounts.with_columns(counted)).supplying(
        suppliers, ACCOUNT, {"password-set-with": "all passwords side by side"}
    )


def _with_sharers(
    rows: pl.DataFrame, accounts: pl.DataFrame, value: str
) -> tuple[pl.DataFrame, pl.DataFrame]:
    """The rows with `shared-with` entered and the place of each row; and the rows whose value is shared.

    Accounts of one login name or of one person are one holder: taking one's key along is no sharing.
    """
    rows = rows.with_row_index(_PLACE)
    holders = _holders(accounts)
    # In the order of the rows throughout: the same evidence names the same accounts.
    held = (
        rows.select(_PLACE, ACCOUNT_ROW, value=value)
        .drop_nulls()
        .join(holders, on=ACCOUNT_ROW, how="inner", maintain_order="left")
    )
    # Only what several accounts hold can be shared: what follows is over that alone.
    shared = held.filter(pl.col(ACCOUNT_ROW).n_unique().over("value") > 1)
    # One account for each holder, and few of those: enough to name the most that are named.
    others = (
        shared.unique(["value", "who"], keep="first", maintain_order=True)
        .group_by("value", maintain_order=True)
        .head(MOST_SHARED + 2)
        .select("value", other="account", other_who="who", other_name="name")
    )
    named = (
        shared.join(others, on="value", how="inner", maintain_order="left_right")
        .filter((pl.col("other_who") != pl.col("who")) & (pl.col("other_name") != pl.col("name")))
        .group_by(_PLACE, maintain_order=True)
        .agg(pl.col("other").head(MOST_SHARED).alias("shared-with"))
    )
    marked = rows.join(named, on=_PLACE, how="left", maintain_order="left")
    # Where there is a value and nobody else has it, the list is known to be empty; without one it is unknown.
    nobody = pl.lit([], dtype=pl.List(pl.String))
    known = pl.when(pl.col(value).is_not_null()).then(pl.coalesce("shared-with", nobody))
    return marked.with_columns(known.alias("shared-with")), shared


_PLACE = "place"


def _holders(accounts: pl.DataFrame) -> pl.DataFrame:
    """Who holds each account, by its row, and whether it is root on its host."""
    nothing = pl.lit(None, dtype=pl.String)
    person, ident = (
        pl.col(name) if name in accounts.columns else nothing for name in ("person", "stable-id")
    )
    return accounts.select(
        pl.int_range(pl.len(), dtype=pl.UInt32).alias(ACCOUNT_ROW),
        "account",
        "name",
        who=pl.coalesce(person, "name"),
        root=(ident == "0").fill_null(False),
    )
