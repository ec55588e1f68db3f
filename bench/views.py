"""Times each topic's view on N accounts, as whole processes: reading, judging its rules, the report.

The data is that of `generate.py`, and beside it gates, settings, a register of forty entries, an opening for
every ten accounts and a sign-in for each. Judged by the rulebook `base`.
"""

from __future__ import annotations

import shutil
import subprocess
import sys
from pathlib import Path

import numpy as np
import polars as pl

from generate import AT as NOW
from generate import _ago, _owner, _pick
from run import AT, HERE, KEYMALLET, Step

ROUNDS = 3
BAR = 5.0  # seconds, each
TOPICS = ("factors", "passwords", "lockouts", "exemptions", "elevation", "temporary")

ESTATE = """
organisation = "Bench"
clock = "UTC"
rulebook = "base"
register = "exemptions.toml"

[source.directory]
read = "csv"
map = "directory.toml"

[source.directory.files]
account = "../accounts.csv"
factor = "../factors.csv"
key = "../keys.csv"
grant = "../grants.csv"
gate = "gates.csv"
setting = "settings.csv"
elevation = "openings.csv"
sign-in = "sign-ins.csv"
"""

MORE_OF_THE_MAP = """
[gate.columns]
gate = "Gate"
state = "State"
asks-for = "Asks"
covers = "Covers"
leaves-out = "Out"

[setting.columns]
setting = "Name"
applies-to = "For"
max-age = "Age"
lock-after = "Locks"
count-within = "Within"

[elevation]
absent = ["approved"]

[elevation.columns]
account = "User"
elevation = "Id"
role = "Role"
approved-by = "By"
reason = "Why"
starts = "From"
ends = { from = "To", plain = "until" }
closed = "Closed"
proof = "Proof"
outcome = "Outcome"

[sign-in.columns]
account = "User"
at = "At"
outcome = "Outcome"
origin = "From"
"""
GATES = """Gate,State,Asks,Covers,Out
everybody,in-force,any-second,all,legacy
administrators,in-force,phishing-resistant,admins,
visitors,on-trial,any-second,guest,
machines,off,otp,service,
"""
SETTINGS = "Name,For,Age,Locks,Within\neverybody,everyone,200d,10,30min\nlegacy,legacy,400d,20,15min\n"
WRITTEN = "%Y-%m-%dT%H:%M:%SZ"


def make(folder: Path, accounts: int) -> None:
    """Write what the views need beside the data of the other steps."""
    folder.mkdir(exist_ok=True)
    random = np.random.default_rng(20261125)
    (folder / "estate.toml").write_text(ESTATE)
    map_text = (HERE / "directory.toml").read_text().replace('absent = ["elevation"]\n', "")
    (folder / "directory.toml").write_text(map_text + MORE_OF_THE_MAP)
    (folder / "gates.csv").write_text(GATES)
    (folder / "settings.csv").write_text(SETTINGS)
    entries = [
        f'[exemption.e{number}]\nkind = "technical"\naccounts = ["directory/u{number}*"]\n'
        'rules = ["password-*"]\n'
        f'reason = "The machines of hall {number} cannot change theirs."\nuntil = 2027-03-01\n'
        for number in range(100, 140)
    ]
    (folder / "exemptions.toml").write_text("".join(entries))
    size = accounts // 10
    starts = NOW - (random.uniform(0.5, 90, size) * 86_400_000_000).astype("timedelta64[us]")
    lasting = (random.uniform(0.2, 9, size) * 3_600_000_000).astype("timedelta64[us]")
    ends = pl.Series(starts + lasting).dt.strftime(WRITTEN)
    owner = _owner(random, accounts, size)
    pl.DataFrame(
        {
            "User": owner,
            "Id": "op" + pl.Series(np.arange(size)).cast(pl.String),
            "Role": _pick(random, size, admin=0.9, reader=0.1),
            "By": _owner(random, accounts, size),
            "Why": "Replace the relay number " + pl.Series(random.integers(0, size, size)).cast(pl.String),
            "From": pl.Series(starts).dt.strftime(WRITTEN),
            "To": ends,
            "Closed": ends,
            "Proof": _pick(random, size, otp=0.9, password=0.1),
            "Outcome": _pick(random, size, opened=0.95, refused=0.05),
        }
    ).write_csv(folder / "openings.csv")
    pl.DataFrame(
        {
            "User": _owner(random, accounts, accounts),
            "At": _ago(random, accounts, 0, 30),
            "Outcome": _pick(random, accounts, success=0.95, failure=0.05),
            "From": "host-" + pl.Series(random.integers(0, 50_000, accounts)).cast(pl.String),
        }
    ).write_csv(folder / "sign-ins.csv")


def main(folder: Path, accounts: int) -> int:
    """make the data if need be, read once, time each view; the code says whether the bar was held."""
    data = (folder / f"{accounts}").resolve() / "topics"
    if not (data / "sign-ins.csv").exists():
        make(data, accounts)
    shutil.rmtree(data / "snapshots", ignore_errors=True)
    reading = Step("keymallet read, with openings and sign-ins", lambda: [KEYMALLET, "read", *AT])
    reading.run(data)
    steps = [
        Step(f"keymallet view {topic}", lambda topic=topic: [KEYMALLET, "view", topic, *AT])
        for topic in TOPICS
    ]
    for _ in range(ROUNDS):
        for step in steps:
            step.run(data)
    beside = f"{accounts:,} sign-ins and {accounts // 10:,} openings"
    print(f"\nviews of {accounts:,} accounts, with {beside}; median of {ROUNDS}")
    for step in (reading, *steps):
        told = "" if step is reading else f"  at most {BAR:g}: {'held' if step.median <= BAR else 'MISSED'}"
        print(step.line() + told)
    return 1 if any(step.median > BAR for step in steps) else 0


if __name__ == "__main__":
    subprocess.run([sys.executable, "-c", "import keymallet"], check=True)
    sys.exit(main(Path(sys.argv[1]), int(sys.argv[2])))
