"""Times `mend` of 30 mixed findings of the demo, against judging it. Both are whole processes, in turn."""

from __future__ import annotations

import csv
import subprocess
import sys
from pathlib import Path

from run import KEYMALLET, PYTHON, Step

AT = ("--at", "2026-11-24T09:00Z")
ROUNDS = 3
FINDINGS = 30
BAR = 2.0
"""Seconds."""
_MAKE = """
import pathlib, sys
from keymallet.demo.railway import write_estate
write_estate(pathlib.Path(sys.argv[1]))
"""


def main(folder: Path) -> int:
    """Make the demo's estate if need be, run both, print the times and the ratio."""
    data = (folder / "railway").resolve()
    if not (data / "snapshots").exists():
        subprocess.run([PYTHON, "-c", _MAKE, data], check=True)
        subprocess.run([KEYMALLET, "read", *AT], cwd=data, check=False, stdout=subprocess.DEVNULL)
    words = [KEYMALLET, "judge", *AT, "--format", "csv", "--output", "found.csv", "--fail-on", "never"]
    subprocess.run(words, cwd=data, check=False)
    with (data / "found.csv").open(encoding="utf-8") as file:
        ids = [row["finding-id"] for row in csv.DictReader(file) if row["verdict"] == "breach"]
    chosen = ids[:: max(len(ids) // FINDINGS, 1)][:FINDINGS]
    named = [word for each in chosen for word in ("--finding", each)]
    steps = {
        "judge": Step("judge the demo", lambda: words),
        "mend": Step(
            f"mend {len(chosen)} of its findings", lambda: [KEYMALLET, "mend", *named, "--preview", *AT]
        ),
    }
    for _ in range(ROUNDS):
        for step in steps.values():
            step.run(data, also=(1, 3))
    for step in steps.values():
        print(step.line())
    seconds = steps["mend"].median
    ratio = seconds / steps["judge"].median
    print(f"mending {len(chosen)} findings: {seconds:.1f} s (bar {BAR:.1f}), {ratio:.2f} x judging")
    return int(seconds > BAR)


if __name__ == "__main__":
    sys.exit(main(Path(sys.argv[1])))
