"""Keys, devices and passwords that accounts of several people have in common, over all sources."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import polars as pl

from keymallet.core.facts.declaration import ACCOUNT, FACTOR, KEY
from keymallet.core.facts.evidence import ACCOUNT_ROW
from keymallet.core.linking.between_shards import Telling
from keymallet.core.linking.linked import LinkedReadings, LinkingRules

MOST_SHARED = 10
"""How many accounts are named that share a key; naming all of many for each of many would be their square."""


@dataclass(frozen=True)
class Sharers:
    """Who has the values that several accounts have.

    `values` has each `value` with the number of `accounts` and whether a `root` is among them; `others` a few
    of those who have it, one account for each holder: `value`, `other`, `other_who`, `other_name`.
    """

    values: pl.DataFrame
    others: pl.DataFrame


def tellings_of(held: Callable[[LinkedReadings], pl.DataFrame | None]) -> tuple[Telling, ...]:
    """What has to be told to know who shares a value; `held` gives the rows with it: ACCOUNT_ROW, `value`.

    First which values there are, as hashes, then who has those that several accounts have.
    """

    def values_had(linked: LinkedReadings, rules: LinkingRules, _: None) -> pl.DataFrame | None:
        rows = held(linked)
        if rows is None:
            return None
        had = rows.drop_nulls().select(ACCOUNT_ROW, value=pl.col("value").hash(_SEED)).unique()
        return had.group_by("value").len("accounts")

    def sharers(linked: LinkedReadings, rules: LinkingRules, shared: pl.Series) -> Sharers | None:
        rows = held(linked)
        if rows is None or not len(shared):
            return None
        mine = rows.drop_nulls().filter(pl.col("value").hash(_SEED).is_in(shared.implode()))
        of_holders = mine.join(_holders(linked.accounts), on=ACCOUNT_ROW, how="inner", maintain_order="left")
        values = of_holders.group_by("value").agg(
            pl.col(ACCOUNT_ROW).n_unique().alias("accounts"), pl.col("root").any()
        )
        others = of_holders.select("value", other="account", other_who="who", other_name="name")
        return Sharers(values, _few(others))

    return (Telling(values_had, _had_by_several), Telling(sharers, _sharers_together))


_SEED = 2_654_435_761


def _had_by_several(parts: Sequence[pl.DataFrame]) -> pl.Series:
    """The hashes of values that more than one account has."""
    had = parts[0] if len(parts) == 1 else pl.concat(parts).group_by("value").agg(pl.col("accounts").sum())
    return had.filter(pl.col("accounts") > 1)["value"]


def _sharers_together(parts: Sequence[Sharers]) -> Sharers:
    values = pl.concat([part.values for part in parts])
    several = values.group_by("value").agg(pl.col("accounts").sum(), pl.col("root").any())
    several = several.filter(pl.col("accounts") > 1)
    others = pl.concat([part.others for part in parts]).join(several, on="value", how="semi")
    return Sharers(several, _few(others))


def _few(others: pl.DataFrame) -> pl.DataFrame:
    """One account for each holder, and few of those: enough to name the most that are named.

    By their names, so that the same evidence names the same accounts, however it lies.
    """
    return (
        others.sort("value", "other")
        .unique(["value", "other_who"], keep="first", maintain_order=True)
        .group_by("value", maintain_order=True)
        .head(MOST_SHARED + 2)
    )


def keys_held(linked: LinkedReadings) -> pl.DataFrame | None:
    """The digest of each key; None where no source tells of any."""
    held = linked.frame(KEY)
    # A source that has no keys at all supplies every column of them: that is no column in any frame.
    if held is None or not linked.suppliers(KEY, "digest") or "digest" not in held.columns:
        return None
    return held.select(ACCOUNT_ROW, value="digest")


def mark_shared_keys(linked: LinkedReadings, rules: LinkingRules, sharers: Sharers | None) -> LinkedReadings:
    """Enter, for each key, which accounts of other people hold the same one, and whether a root does."""
    held, keys = keys_held(linked), linked.frame(KEY)
    if held is None or keys is None:
        return linked
    marked = _with_sharers(held, linked.accounts, sharers)
    finished = keys.with_columns(marked["shared-with"], marked["root"].alias("shared-with-root"))
    how = "the same key, over all sources"
    return linked.with_frame(KEY, finished).supplying(
        linked.suppliers(KEY, "digest"), KEY, {"shared-with": how, "shared-with-root": how}
    )


def devices_held(linked: LinkedReadings) -> pl.DataFrame | None:
    """The device of each factor; where none is told, a label that looks like a serial number."""
    factors = linked.frame(FACTOR)
    if factors is None or not _tellers_of_devices(linked):
        return None
    devices = [pl.col(name) for name in ("device",) if name in factors.columns]
    if "label" in factors.columns:
        devices.append(pl.when(pl.col("label").str.contains(_A_SERIAL)).then(pl.col("label")))
    return factors.select(ACCOUNT_ROW, value=pl.coalesce(devices)) if devices else None


def mark_shared_devices(
    linked: LinkedReadings, rules: LinkingRules, sharers: Sharers | None
) -> LinkedReadings:
    """Enter, for each factor, which accounts of other people are proven by the same device."""
    held, factors = devices_held(linked), linked.frame(FACTOR)
    if held is None or factors is None:
        return linked
    marked = factors.with_columns(_with_sharers(held, linked.accounts, sharers)["shared-with"])
    return linked.with_frame(FACTOR, marked).supplying(
        _tellers_of_devices(linked), FACTOR, {"shared-with": "the same device, over all sources"}
    )


def _tellers_of_devices(linked: LinkedReadings) -> set[str]:
    return {*linked.suppliers(FACTOR, "device"), *linked.suppliers(FACTOR, "label")}


_A_SERIAL = r"\d{5,}|\d[\dA-Fa-f]{7,}"
"""Five figures in a row, or eight of a hexadecimal number: `SN 10482233`, not `my phone 2`."""


def passwords_held(linked: LinkedReadings) -> pl.DataFrame | None:
    """The digest of each account's password."""
    accounts = linked.accounts
    if not linked.suppliers(ACCOUNT, _DIGEST) or _DIGEST not in accounts.columns:
        return None
    return accounts.select(pl.int_range(pl.len(), dtype=pl.UInt32).alias(ACCOUNT_ROW), value=_DIGEST)


def mark_shared_passwords(
    linked: LinkedReadings, rules: LinkingRules, sharers: Sharers | None
) -> LinkedReadings:
    """Enter which accounts of other people have accounts with the same password, and take the digests away.

    What a password is stored as is nobody's business once copies have been seen.
    """
    held, accounts = passwords_held(linked), linked.accounts
    if held is not None:
        shared_with = _with_sharers(held, accounts, sharers)["shared-with"]
        accounts = accounts.with_columns(shared_with.alias("password-shared-with"))
        how = "the same password, over all sources"
        linked = linked.supplying(linked.suppliers(ACCOUNT, _DIGEST), ACCOUNT, {"password-shared-with": how})
    kept = accounts.drop(_DIGEST, strict=False)
    return linked.with_frame(ACCOUNT, kept).no_longer_supplying(ACCOUNT, _DIGEST)


_DIGEST = "password-digest"


def _with_sharers(held: pl.DataFrame, accounts: pl.DataFrame, sharers: Sharers | None) -> pl.DataFrame:
    """The accounts of other holders that each row's value is `shared-with`, and whether a `root` has it too.

    Accounts of one login name or of one person are one holder: taking one's key along is no sharing.
    """
    # Where there is a value and nobody else has it, the list is known to be empty; without one it is unknown.
    nobody = pl.lit([], dtype=pl.List(pl.String))
    known = pl.when(pl.col("value").is_not_null())
    if sharers is None:
        return held.select(known.then(nobody).alias("shared-with"), known.then(pl.lit(False)).alias("root"))
    rows = held.with_row_index(_PLACE)
    shared = rows.drop_nulls().join(
        sharers.values.drop("accounts"), on="value", how="inner", maintain_order="left"
    )
    named = (
        shared.join(_holders(accounts), on=ACCOUNT_ROW, how="inner", maintain_order="left")
        .join(sharers.others, on="value", how="inner", maintain_order="left_right")
        .filter((pl.col("other_who") != pl.col("who")) & (pl.col("other_name") != pl.col("name")))
        .group_by(_PLACE, maintain_order=True)
        .agg(pl.col("other").head(MOST_SHARED).alias("shared-with"))
    )
    found = shared.select(_PLACE, "root").join(named, on=_PLACE, how="left")
    marked = rows.join(found, on=_PLACE, how="left", maintain_order="left")
    return marked.select(
        known.then(pl.coalesce("shared-with", nobody)).alias("shared-with"),
        known.then(pl.col("root").fill_null(False)).alias("root"),
    )


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
