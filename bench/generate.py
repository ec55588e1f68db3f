"""Writes an estate of N accounts and 1.7 N rows beside them, about 2% of most rules in breach."""

from __future__ import annotations

import sys
from pathlib import Path

import numpy as np
import polars as pl

AT = np.datetime64("2026-11-24T09:00:00", "us")
HERE = Path(__file__).parent
_DAY = 86_400_000_000

ESTATE = """
organisation = "Bench"
clock = "UTC"
rulebook = "{here}/rulebook.toml"

[source.directory]
read = "csv"
map = "{here}/directory.toml"
files = {{ account = "accounts.csv", factor = "factors.csv", key = "keys.csv", grant = "grants.csv" }}
"""


def main(folder: Path, accounts: int) -> None:
    """Write the files."""
    folder.mkdir(parents=True, exist_ok=True)
    random = np.random.default_rng(20261124)
    (folder / "estate.toml").write_text(ESTATE.format(here=HERE.resolve()))
    _accounts(random, accounts).write_csv(folder / "accounts.csv")
    _factors(random, accounts, accounts * 9 // 10).write_csv(folder / "factors.csv")
    _keys(random, accounts, accounts * 45 // 100).write_csv(folder / "keys.csv")
    _grants(random, accounts, accounts * 35 // 100).write_csv(folder / "grants.csv")


def _ago(random: np.random.Generator, size: int, least: int, most: int, late: int | None = None) -> pl.Series:
    """Instants between `least` and `most` days back; with `late`, 2% of them up to that many days back."""
    days = random.uniform(least, most, size)
    if late is not None:
        days = np.where(random.random(size) < 0.02, random.uniform(most, late, size), days)
    return pl.Series(AT - (days * _DAY).astype("timedelta64[us]")).dt.strftime("%Y-%m-%dT%H:%M:%SZ")


def _pick(random: np.random.Generator, size: int, **shares: float) -> pl.Series:
    words = pl.Series(list(shares), dtype=pl.String)
    chances = np.array(list(shares.values()))
    return words.gather(random.choice(len(words), size, p=chances / chances.sum()))


def _sometimes(random: np.random.Generator, series: pl.Series, chance: float) -> pl.Series:
    there = pl.Series(random.random(len(series)) < chance)
    return pl.DataFrame({"s": series, "t": there}).select(pl.when("t").then("s")).to_series()


def _owner(random: np.random.Generator, accounts: int, rows: int) -> pl.Series:
    return "u" + pl.Series(random.integers(0, accounts, rows)).cast(pl.String)


def _accounts(random: np.random.Generator, size: int) -> pl.DataFrame:
    number = pl.Series(np.arange(size)).cast(pl.String)
    future = (random.uniform(1, 300, size) * _DAY).astype("timedelta64[us]")
    gone = random.random(size) < 0.02
    ends = pl.Series(np.where(gone, AT - future, AT + future)).dt.strftime("%Y-%m-%dT%H:%M:%SZ")
    return pl.DataFrame(
        {
            "Login": "u" + number,
            "Id": "7f3a-" + number,
            "Name": "Person " + number,
            "Mail": "u" + number + "@gvr.example",
            "Type": _pick(random, size, Employee=0.8, Visitor=0.1, Machine=0.1),
            "Unit": "Unit " + pl.Series(random.integers(0, 40, size)).cast(pl.String),
            "Status": _pick(random, size, Active=0.9, Disabled=0.1),
            "Console": _pick(random, size, yes=0.98, no=0.02),
            "Created": _ago(random, size, 1000, 3000),
            "End": _sometimes(random, ends, 0.3),
            "Last": _sometimes(random, _ago(random, size, 0, 45, 400), 0.97),
            "PwSet": _ago(random, size, 0, 180, 900),
            "PwNever": _pick(random, size, no=0.98, yes=0.02),
            "Initial": _pick(random, size, no=0.98, yes=0.02),
            "Locked": _pick(random, size, no=0.98, yes=0.02),
            "LockedUntil": _sometimes(random, ends, 0.01),
            "Scheme": _pick(random, size, yescrypt=0.9, sha512=0.08, md5=0.02),
            "Labels": _pick(random, size, staff=0.9, contractor=0.02, other=0.08),
            "Groups": _pick(random, size, **{"all|mail": 0.9, "all": 0.08, "all|legacy": 0.02}),
            "HasPw": _pick(random, size, yes=0.95, no=0.05),
            "Failed": pl.Series(random.poisson(1.0, size) * 2).cast(pl.String),
        }
    )


def _factors(random: np.random.Generator, accounts: int, size: int) -> pl.DataFrame:
    kinds = {"otp": 0.4, "passkey": 0.3, "push": 0.2, "sms": 0.1}
    return pl.DataFrame(
        {
            "User": _owner(random, accounts, size),
            "Kind": _pick(random, size, **kinds),
            "State": _pick(random, size, active=0.96, pending=0.02, suspended=0.02),
            "Registered": _ago(random, size, 1, 2000, 2500),
            "Used": _sometimes(random, _ago(random, size, 0, 40), 0.95),
        }
    )


def _keys(random: np.random.Generator, accounts: int, size: int) -> pl.DataFrame:
    issued = random.uniform(1, 90, size)
    issued = np.where(random.random(size) < 0.02, random.uniform(90, 1500, size), issued)
    start = AT - (issued * _DAY).astype("timedelta64[us]")
    written = "%Y-%m-%dT%H:%M:%SZ"
    expires = pl.Series(start + np.timedelta64(365 * _DAY, "us")).dt.strftime(written)
    return pl.DataFrame(
        {
            "User": _owner(random, accounts, size),
            "Key": "k" + pl.Series(np.arange(size)).cast(pl.String),
            "Kind": _pick(random, size, **{"api-key": 0.7, "ssh-key": 0.3}),
            "Issued": pl.Series(start).dt.strftime(written),
            "Expires": _sometimes(random, expires, 0.98),
            "Used": _sometimes(random, _ago(random, size, 0, 1), 0.98),
            "State": _pick(random, size, active=0.9, revoked=0.1),
        }
    )


def _grants(random: np.random.Generator, accounts: int, size: int) -> pl.DataFrame:
    return pl.DataFrame(
        {
            "User": _owner(random, accounts, size),
            "Role": _pick(random, size, reader=0.8, admin=0.2),
            "Privileged": _pick(random, size, no=0.8, yes=0.2),
            "Mode": _pick(random, size, standing=0.9, **{"on-request": 0.1}),
            "Via": _pick(random, size, **{"group staff": 0.98, "direct": 0.02}),
        }
    )


if __name__ == "__main__":
    main(Path(sys.argv[1]), int(sys.argv[2]))
