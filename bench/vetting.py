"""Times `vet` of N/10 planned accounts against N accounts: a multiple of the batch against a thousand.

Against a thousand is what reading and judging the batch alone costs. Both are whole processes, in turn.
"""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import numpy as np
import polars as pl

from run import AT, HERE, KEYMALLET, PYTHON, Step

ROUNDS = 3
FEW = 1_000
BAR = 3.0
MAP = """
[target]
source = "directory"
required = ["mail"]
name-pattern = '[a-z0-9.-]+'
[account.columns]
name = "Login"
display = "Name"
mail = "Mail"
unit = "Unit"
enabled = { always = true }
kind = { always = "person" }
groups = "Groups"
password-must-change = { always = true }
starts = "From"
[planned.columns]
account = "Login"
password = "Password"
"""


def main(folder: Path, accounts: int) -> int:
    """Generate the estates and the batch if need be, run both, print the table and the ratio."""
    folders = {number: (folder / f"{number}-vetting").resolve() for number in (accounts, FEW)}
    for number, data in folders.items():
        if not (data / "batch.csv").exists():
            subprocess.run([PYTHON, HERE / "generate.py", data, str(number)], check=True)
            subprocess.run([KEYMALLET, "read", *AT], cwd=data, check=True, stdout=subprocess.DEVNULL)
            (data / "book.toml").write_text('title = "Base"\ninclude = ["base"]\n')
            (data / "batch.toml").write_text(MAP)
            _batch(accounts // 10).write_csv(data / "batch.csv")

    def vet(number: int) -> Callable[[], list[str]]:
        words = ["vet", "batch.csv", "--map", "batch.toml", "--rulebook", "book.toml", "--format", "csv"]
        return lambda: [KEYMALLET, *words, "--output", "found.csv", "--fail-on", "never", *AT]

    steps = {
        number: Step(f"vet, {accounts // 10:,} rows against {number:,} accounts", vet(number))
        for number in folders
    }
    for _ in range(ROUNDS):
        for number, step in steps.items():
            step.run(folders[number], also=(3,))
    for step in steps.values():
        print(step.line())
    ratio = steps[accounts].median / steps[FEW].median
    print(f"vetting against all / the batch alone: {ratio:.2f} (bar {BAR:.1f})")
    return int(ratio > BAR)


def _batch(rows: int) -> pl.DataFrame:
    """A batch with first passwords of 14 characters, each of its own, and three first days."""
    random = np.random.default_rng(7)
    signs = np.array(list("abcdefghkmnpqrstuvwxyzABCDEFGHKMNPQRSTUVWXYZ23456789#%+-"))
    drawn = signs[random.integers(0, len(signs), (rows, 14))]
    numbers = pl.Series(range(rows)).cast(pl.String)
    return pl.DataFrame(
        {
            "Login": "new." + numbers,
            "Name": "New Person " + numbers,
            "Mail": "new." + numbers + "@bench.example",
            "Unit": pl.Series(random.choice(["unit-1", "unit-2", "unit-3"], rows)),
            "Groups": pl.Series(["staff"] * rows),
            "From": pl.Series(random.choice(["2026-11-24", "2026-12-01", "2026-12-15"], rows)),
            "Password": pl.Series(["".join(row) for row in drawn]),
        }
    )


if __name__ == "__main__":
    sys.exit(main(Path(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else 1_000_000))
