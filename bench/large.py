"""Times very many accounts against a tenth of them: seconds, and the memory of all processes together.

Each step runs once, for it takes minutes. The memory is what the processes have for themselves (their
proportional set size), summed up ten times a second. Needs about ten gigabytes of disk for ten million.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import time
from pathlib import Path

from run import AT, HERE, KEYMALLET, PYTHON

MEGABYTES = 1500
"""What no step may take, but for those of two processes."""


def memory_of(process: int) -> int:
    """The kilobytes that a process and those it has begun have for themselves; 0 if it has ended."""
    total = 0
    for entry in Path("/proc").iterdir():
        try:
            if not entry.name.isdecimal():
                continue
            parent = int((entry / "stat").read_text().rpartition(")")[2].split()[1])
            if process in (int(entry.name), parent):
                lines = (entry / "smaps_rollup").read_text().splitlines()
                total += next(int(line.split()[1]) for line in lines if line.startswith("Pss:"))
        except (OSError, StopIteration, IndexError):
            continue
    return total


def timed(name: str, folder: Path, *words: str) -> tuple[float, float]:
    """Run a command in a folder; tells and gives its seconds, and the megabytes at its peak."""
    kept = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}
    started, peak = time.perf_counter(), 0
    with subprocess.Popen([KEYMALLET, *words, *AT], cwd=folder, stdout=subprocess.DEVNULL, env=kept) as done:
        while done.poll() is None:
            peak = max(peak, memory_of(done.pid))
            time.sleep(0.1)
    seconds = time.perf_counter() - started
    if done.returncode not in (0, 1):
        sys.exit(f"{name} ended with code {done.returncode}")
    print(f"{name:44} {seconds:8.2f} s  {peak / 1024:8,.0f} MB", flush=True)
    return seconds, peak / 1024


def steps(folder: Path, accounts: int) -> dict[str, tuple[float, float]]:
    """Seconds and megabytes of each step on so many accounts."""
    data = (folder / f"{accounts}").resolve()
    if not (data / "grants.csv").exists():
        subprocess.run([PYTHON, HERE / "generate.py", data, str(accounts)], check=True)
    shutil.rmtree(data / "snapshots", ignore_errors=True)
    out = str(data / "findings.csv")
    findings = ("judge", "--no-record", "--format", "csv", "--output", out)
    print(f"{accounts:,} accounts")
    return {
        "read": timed("keymallet read", data, "read"),
        "judge": timed("keymallet judge, one process", data, "judge", "--workers", "1"),
        "judge, two": timed("keymallet judge, two processes", data, "judge", "--workers", "2"),
        "findings": timed("keymallet judge --format csv, two processes", data, *findings, "--workers", "2"),
    }


def main(folder: Path, accounts: int) -> int:
    """Generate the data if need be, run every step on both, print the table and the ratios."""
    few, many = steps(folder, accounts // 10), steps(folder, accounts)
    bars = [(f"{name}: ten times the accounts", many[name][0] / few[name][0], 10.5) for name in many]
    bars += [(f"{name}, MB", many[name][1], MEGABYTES) for name in ("read", "judge", "findings")]
    bars.append(("judge: two processes against one", many["judge, two"][0] / many["judge"][0], 0.6))
    missed = 0
    print()
    for name, value, most in bars:
        missed += value > most
        print(f"{name:44} {value:8.2f}    at most {most:g}: {'held' if value <= most else 'MISSED'}")
    return 1 if missed else 0


if __name__ == "__main__":
    sys.exit(main(Path(sys.argv[1]), int(sys.argv[2])))
