"""Times the logbook on N accounts: a first run, a second with 1% changed, the changes, and a year of nights.

Everything against judging, or writing all findings, in the same run and as whole processes.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable
from datetime import datetime
from pathlib import Path

import numpy as np
import polars as pl

from run import HERE, KEYMALLET, PYTHON, Step

sys.path.insert(0, str(HERE.parent))
from tests.postgresql import Server

FIRST, SECOND = datetime(2026, 11, 24, 9), datetime(2026, 11, 24, 21)
ROUNDS = 3
NIGHTS = 365


def main(folder: Path, accounts: int) -> int:
    """Generate two weeks' evidence if need be, run every step, print the table and the ratios."""
    data = (folder / f"{accounts}-weeks").resolve()
    if not (data / "second").exists():
        subprocess.run([PYTHON, HERE / "generate.py", data, str(accounts)], check=True)
        given = (data / "estate.toml").read_text()
        (data / "estate.toml").write_text(_with_logbook(given, 'logbook = "logbook"'))
        (data / "given.toml").write_text(given)
        _read(data, FIRST)
        _change(data / "accounts.csv", 0.01)
        _read(data, SECOND)
        (data / "second").touch()

    def judged(at: datetime, *more: str) -> Callable[[], list[str]]:
        return lambda: [KEYMALLET, "judge", "--at", f"{at:%Y-%m-%dT%H:%MZ}", *more]

    server = Server()
    at_server = ("--estate", "server.toml", "--record")
    steps = {
        "judge": Step("judge", judged(SECOND)),
        "csv": Step("judge --format csv", judged(SECOND, "--format", "csv", "--output", "all.csv")),
        "first": Step("judge, first run into the logbook", judged(FIRST, "--record")),
        "second": Step("judge, second run, 1% changed", judged(SECOND, "--record")),
        "changes": Step("changes between the two", lambda: [KEYMALLET, "changes"]),
        "first-server": Step("first run, PostgreSQL", judged(FIRST, *at_server)),
        "second-server": Step("second run, PostgreSQL", judged(SECOND, *at_server)),
        "changes-server": Step("changes, PostgreSQL", lambda: [KEYMALLET, "changes", *at_server[:2]]),
    }
    sizes: list[int] = []
    for _ in range(ROUNDS):
        for made in ("logbook", "server"):
            shutil.rmtree(data / made, ignore_errors=True)
        url = server.url(server.new_database())
        os.environ["BENCH_PASSWORD"] = str(url.password)
        where = f'logbook = "postgresql://{url.username}@{url.host}:{url.port}/{url.database}"'
        told = f'{where}\nlogbook-files = "server"\nlogbook-password-from = "env:BENCH_PASSWORD"'
        (data / "server.toml").write_text(_with_logbook((data / "given.toml").read_text(), told))
        for name, step in steps.items():
            before = _sql_bytes(data)
            step.run(data)
            if name == "second":
                sizes.append(_sql_bytes(data) - before)
    server.close()
    verified, life = _a_year()
    print(f"{accounts:,} accounts; median of {ROUNDS}")
    for step in (*steps.values(), verified, life):
        print(step.line())
    medians = {name: step.median for name, step in steps.items()}
    bars = [
        ("first run against judge --format csv", medians["first"] / medians["csv"], 1.5),
        ("second run against the first", medians["second"] / medians["first"], 0.5),
        ("second run, MB more on the SQL side", max(sizes) / 1e6, 20.0),
        ("changes against one judge", medians["changes"] / medians["judge"], 3.0),
        *(
            (f"{name} run on PostgreSQL against a folder", medians[f"{name}-server"] / medians[name], 2.0)
            for name in ("first", "second")
        ),
        ("changes on PostgreSQL against a folder", medians["changes-server"] / medians["changes"], 2.0),
        (f"verify {NIGHTS} runs of the railway, seconds", verified.median, 2.0),
        (f"findings ID over {NIGHTS} runs, seconds", life.median, 2.0),
    ]
    missed = 0
    for name, value, bar in bars:
        missed += value > bar
        print(f"{name:44} {value:8.2f}    at most {bar:g}: {'held' if value <= bar else 'MISSED'}")
    return 1 if missed else 0


def _with_logbook(estate: str, told: str) -> str:
    """The estate with an identity of its own, which a logbook on a server needs, and a logbook."""
    return estate.replace('clock = "UTC"', f'clock = "UTC"\nidentity = "bench"\n{told}')


def _read(data: Path, at: datetime) -> None:
    words = [KEYMALLET, "read", "--at", f"{at:%Y-%m-%dT%H:%MZ}"]
    subprocess.run(words, cwd=data, check=False, stdout=subprocess.DEVNULL)


def _change(file: Path, share: float) -> None:
    """Switch off, or on, a share of the accounts."""
    frame = pl.read_csv(file, infer_schema=False)
    chosen = pl.Series(np.random.default_rng(1).random(frame.height) < share)
    other = pl.when(pl.col("Status") == "Active").then(pl.lit("Disabled")).otherwise(pl.lit("Active"))
    frame.with_columns(pl.when(chosen).then(other).otherwise("Status").alias("Status")).write_csv(file)


def _sql_bytes(data: Path) -> int:
    return sum(path.stat().st_size for path in (data / "logbook").glob("logbook.sqlite*"))


def _a_year() -> tuple[Step, Step]:
    """A year of the railway's nights, verified, and one finding's life told."""
    with tempfile.TemporaryDirectory() as made:
        folder = Path(made) / "railway"
        subprocess.run([KEYMALLET, "demo", folder], check=False, stdout=subprocess.DEVNULL)
        subprocess.run([PYTHON, HERE / "nights.py", folder, str(NIGHTS)], check=True)
        verified = Step(f"logbook verify, {NIGHTS} runs", lambda: [KEYMALLET, "logbook", "verify"])
        told = Step("findings ID", lambda: [KEYMALLET, "findings", _first_id(folder)])
        for _ in range(ROUNDS):
            verified.run(folder)
            told.run(folder)
        return verified, told


def _first_id(folder: Path) -> str:
    words = [KEYMALLET, "findings", "--format", "csv"]
    rows = subprocess.run(words, cwd=folder, check=True, capture_output=True, text=True).stdout
    return rows.splitlines()[1].split(",")[0]


if __name__ == "__main__":
    sys.exit(main(Path(sys.argv[1]), int(sys.argv[2])))
