"""Times Keymallet against doing the same work by hand, in one run, as whole processes.

Each step runs five times in turn with the others; the median counts, so that a machine that
is slow for a while is slow for all of them. The last lines hold the ratios against their bars.
"""

from __future__ import annotations

import json
import os
import shutil
import statistics
import subprocess
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

HERE = Path(__file__).parent.resolve()
PYTHON = sys.executable
KEYMALLET = str(Path(PYTHON).parent / "keymallet")
AT = ("--at", "2026-11-24T09:00Z")
ROUNDS = 5


@dataclass
class Step:
    """One thing that is timed: seconds and peak memory of each round."""

    name: str
    command: Callable[[], list[str]]
    seconds: list[float] = field(default_factory=list)
    peaks: list[int] = field(default_factory=list)
    told: str = ""

    def run(self, folder: Path) -> None:
        """Run it once more as a process of its own."""
        started = time.perf_counter()
        with subprocess.Popen(self.command(), cwd=folder, stdout=subprocess.PIPE, text=True) as process:
            assert process.stdout is not None
            self.told = process.stdout.read()
            _, status, usage = os.wait4(process.pid, 0)
            process.returncode = os.waitstatus_to_exitcode(status)
        self.seconds.append(time.perf_counter() - started)
        self.peaks.append(usage.ru_maxrss)
        if process.returncode not in (0, 1):
            sys.exit(f"{self.name} ended with code {process.returncode}")

    @property
    def median(self) -> float:
        return statistics.median(self.seconds)

    def line(self) -> str:
        least, most, peak = min(self.seconds), max(self.seconds), max(self.peaks) / 1024
        return f"{self.name:44} {self.median:8.2f} s  ({least:.2f} to {most:.2f})  {peak:8,.0f} MB"


def main(folder: Path, accounts: int) -> int:
    """Generate the data if need be, run every step, print the table and the ratios."""
    data = (folder / f"{accounts}").resolve()
    if not (data / "grants.csv").exists():
        subprocess.run([PYTHON, HERE / "generate.py", data, str(accounts)], check=True)
    snapshots = data / "snapshots"

    def newest() -> str:
        return str(max(snapshots.iterdir()))

    bare = Step("python -c pass", lambda: [PYTHON, "-c", "pass"])
    usage = Step("keymallet --help", lambda: [KEYMALLET, "--help"])
    parse = Step(
        "parse the CSV files, nothing else (PyArrow)", lambda: [PYTHON, str(HERE / "parse_only.py"), "."]
    )
    gather = Step("keymallet gather", lambda: [KEYMALLET, "gather", *AT])
    judge = Step("keymallet judge, 30 rules, from the snapshot", lambda: [KEYMALLET, "judge", *AT])
    ours = Step(
        "  the rules alone: Keymallet",
        lambda: [PYTHON, str(HERE / "judge_rules.py"), newest(), str(HERE / "rulebook.toml")],
    )
    by_hand = Step("  the rules alone: pandas", lambda: [PYTHON, str(HERE / "pandas_rules.py"), newest()])
    steps = [bare, usage, parse, gather, judge, ours, by_hand]
    inner: dict[str, list[float]] = {ours.name: [], by_hand.name: []}
    for number in range(ROUNDS):
        shutil.rmtree(snapshots, ignore_errors=True)
        for step in steps:
            if step is by_hand and number >= 2:
                continue  # minutes at a million accounts, and steady: two rounds tell
            step.run(data)
        for step in (ours, by_hand) if number < 2 else (ours,):
            inner[step.name].append(json.loads(step.told)["seconds"])
    if json.loads(ours.told)["breaches"] != json.loads(by_hand.told)["breaches"]:
        sys.exit("the two do not find the same breaches")

    rows = accounts * 17 // 10
    print(f"{accounts:,} accounts, {rows:,} rows beside them, {os.cpu_count()} cores; median of {ROUNDS}")
    print(f"{'whole processes':44} {'median':>10}  {'(range)':16}  {'peak':>8}")
    for step in steps:
        print(step.line())
    rules_ours, rules_by_hand = (statistics.median(inner[step.name]) for step in (ours, by_hand))
    told = f"Keymallet {rules_ours:.2f} s, pandas {rules_by_hand:.2f} s; same breaches"
    print(f"\nthe rules alone, without reading: {told}")
    bars = [
        (
            "gather + judge against parsing alone",
            (gather.median + judge.median) / parse.median,
            "at most",
            4.0,
        ),
        ("judge from the snapshot, seconds", judge.median, "at most", 3.0),
        ("pandas against Keymallet, rules alone", rules_by_hand / rules_ours, "at least", 10.0),
        ("keymallet --help against a bare python", usage.median / bare.median, "at most", 4.0),
    ]
    missed = 0
    for name, value, word, bar in bars:
        held = value <= bar if word == "at most" else value >= bar
        missed += not held
        print(f"{name:44} {value:8.2f}    {word} {bar:g}: {'held' if held else 'MISSED'}")
    return 1 if missed else 0


if __name__ == "__main__":
    sys.exit(main(Path(sys.argv[1]), int(sys.argv[2])))
