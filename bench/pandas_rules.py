"""The thirty bench rules by hand in pandas, over the same snapshot: what Keymallet is measured against.

Nullable columns, so that unknown stays unknown as it does in the rulebook. Prints the seconds that
the rules alone took, and the number of breaches of each, which have to agree.
"""

from __future__ import annotations

import json
import resource
import sys
import time
from pathlib import Path

import pandas as pd

AT = pd.Timestamp("2026-11-24T09:00:00Z")
GOOD_SCHEMES = ["argon2", "yescrypt", "bcrypt", "scrypt", "sha512"]


def days(number: float) -> pd.Timedelta:
    return pd.Timedelta(days=number)


def age(column: pd.Series) -> pd.Series:
    return AT - column


def known(condition: pd.Series, *columns: pd.Series) -> pd.Series:
    """A comparison of what is not known is not known."""
    missing = columns[0].isna()
    for column in columns[1:]:
        missing = missing | column.isna()
    return condition.astype("boolean").mask(missing)


def is_one(column: pd.Series, *words: str) -> pd.Series:
    return known(column.isin(words), column)


def some(rows: pd.DataFrame, condition: pd.Series, accounts: pd.Index) -> pd.Series:
    """Whether any row of each account passes (no fact of the rows is missing in the bench)."""
    found = condition.fillna(False).groupby(rows["account-row"]).any()
    return found.reindex(accounts, fill_value=False).astype("boolean")


def count(rows: pd.DataFrame, condition: pd.Series, accounts: pd.Index) -> pd.Series:
    found = condition.fillna(False).groupby(rows["account-row"]).sum()
    return found.reindex(accounts, fill_value=0)


def breaches(who: pd.Series, must: pd.Series) -> int:
    return int((who.fillna(False) & ~must.fillna(True)).sum())


def rules(a: pd.DataFrame, f: pd.DataFrame, k: pd.DataFrame, g: pd.DataFrame) -> dict[str, int]:
    on, has = a["enabled"].astype("boolean"), a["has-password"].astype("boolean")
    kind = a["kind"]
    staff = is_one(kind, "person") & on
    standing = g["privileged"].astype("boolean") & is_one(g["mode"], "standing")
    admin = on & some(g, standing, a.index) & ~is_one(kind, "emergency")
    active = is_one(f["state"], "active")
    resistant = is_one(f["kind"], "hardware-key", "passkey", "smartcard")
    key_active = is_one(k["state"], "active")
    key_on = k["account-row"].map(on).astype("boolean")
    key_kind = k["account-row"].map(kind.astype("object"))
    grant_on = g["account-row"].map(on).astype("boolean")
    factor_on = f["account-row"].map(on).astype("boolean")
    locked_until = a["locked-until"]
    locked = a["locked"].astype("boolean") & ~(locked_until <= AT)
    labels_contractor = a["labels"].map(lambda labels: "contractor" in labels).astype("boolean")
    groups_legacy = a["groups"].map(lambda groups: "legacy" in groups).astype("boolean")
    changed, created = a["password-changed"], a["created"]
    return {
        "r01": breaches(admin, some(f, resistant & active, a.index)),
        "r02": breaches(staff, some(f, ~is_one(f["kind"], "password") & active, a.index)),
        "r03": breaches(
            staff & some(f, is_one(f["kind"], "sms", "voice") & active, a.index),
            some(f, ~is_one(f["kind"], "password", "sms", "voice", "email") & active, a.index),
        ),
        "r04": breaches(on & has, known(age(changed) <= days(180), changed)),
        "r05": breaches(on & has, ~a["initial-password"].astype("boolean")),
        "r06": breaches(on & has & is_one(kind, "person"), ~a["password-never-expires"].astype("boolean")),
        "r07": breaches(has, is_one(a["password-scheme"], *GOOD_SCHEMES)),
        "r08": breaches(on & a["ends"].notna(), known(a["ends"] - AT > days(0), a["ends"])),
        "r09": breaches(
            on & (is_one(kind, "guest") | labels_contractor), a["ends"].notna().astype("boolean")
        ),
        "r10": breaches(
            on & a["last-sign-in"].notna(), known(age(a["last-sign-in"]) <= days(45), a["last-sign-in"])
        ),
        "r11": breaches(on & a["last-sign-in"].isna(), known(age(created) <= days(30), created)),
        "r12": breaches(on, ~locked),
        "r13": breaches(is_one(kind, "service") & on, ~a["interactive"].astype("boolean")),
        "r14": breaches(~a["interactive"].astype("boolean"), ~has),
        "r15": breaches(
            is_one(k["kind"], "api-key") & key_active & key_on,
            known(age(k["issued"]) <= days(90), k["issued"]),
        ),
        "r16": breaches(key_active, key_on),
        "r17": breaches(
            key_active & known(age(k["issued"]) > days(30), k["issued"]),
            k["last-used"].notna().astype("boolean"),
        ),
        "r18": breaches(standing & grant_on, ~is_one(g["via"], "direct")),
        "r19": breaches(on, (count(g, standing, a.index) <= 3).astype("boolean")),
        "r20": breaches(on, (count(f, active, a.index) <= 5).astype("boolean")),
        "r21": breaches(staff, ~some(f, is_one(f["state"], "suspended"), a.index)),
        "r22": breaches(
            on, ~some(k, key_active & known(age(k["issued"]) > days(1000), k["issued"]), a.index)
        ),
        "r23": breaches(on, known(a["failed-attempts"] < 8, a["failed-attempts"])),
        "r24": breaches(is_one(kind, "service"), known(a["name"].str.startswith("u"), a["name"])),
        "r25": breaches(
            key_active,
            k["expires"].notna() & known(k["expires"] - k["issued"] <= days(730), k["expires"], k["issued"]),
        ),
        "r26": breaches(key_active, known(key_kind != "guest", key_kind)),
        "r27": breaches(on, ~groups_legacy),
        "r28": breaches(on & is_one(kind, "person", "guest"), a["unit"].notna().astype("boolean")),
        "r29": breaches(
            on & has & is_one(kind, "person"),
            known((changed - created >= days(0)) | (created > changed), changed, created),
        ),
        "r30": breaches(active & factor_on, known(age(f["registered"]) <= days(2000), f["registered"])),
    }


def main(snapshot: Path) -> None:
    frames = [pd.read_parquet(snapshot / f"{name}.parquet") for name in ("account", "factor", "key", "grant")]
    started = time.perf_counter()
    found = rules(*frames)
    seconds = time.perf_counter() - started
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    print(json.dumps({"seconds": seconds, "peak-kb": peak, "breaches": found}))


if __name__ == "__main__":
    main(Path(sys.argv[1]))
