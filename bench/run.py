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

    def run(self, folder: Path, also: tuple[int, ...] = ()) -> None:
        """Run it once more as a process of its own; codes besides 0 and 1 that are right are `also`."""
        started = time.perf_counter()
        # As installed: what was loaded once is compiled.
        kept = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}
        with subprocess.Popen(
            self.command(), cwd=folder, stdout=subprocess.PIPE, text=True, env=kept
        ) as process:
            assert process.stdout is not None
            self.told = process.stdout.read()
            _, status, usage = os.wait4(process.pid, 0)
            process.returncode = os.waitstatus_to_exitcode(status)
        self.seconds.append(time.perf_counter() - started)
        self.peaks.append(usage.ru_maxrss)
        if process.returncode not in (0, 1, *also):
            sys.exit(f"{self.name} ended with code {process.returncode}")

    @property
    def median(self) -> float:
        return statistics.median(self.seconds)

    def line(self) -> str:
        least, most, peak = min(self.seconds), max(self.seconds), max(self.peaks) / 1024
        return f"{self.name:44} {self.median:8.2f} s  ({least:.2f} to {most:.2f})  {peak:8,.0f} MB"


ACCOUNTS_ALONE = """
organisation = "Bench"
clock = "UTC"
rulebook = "{rules}"

[source.directory]
read = "{form}"
map = "map.toml"
files = {{ account = "{file}" }}
"""


def accounts_alone(data: Path, form: str) -> Path:
    """An estate of the accounts alone, as CSV or as JSON lines."""
    folder = data / f"accounts-{form}"
    folder.mkdir(exist_ok=True)
    file = data / "accounts.csv"
    if form == "json":
        file = folder / "accounts.jsonl"
        if not file.exists():
            # By a process of its own: what this one holds would count as the peak of each that it starts.
            read = "pl.read_csv(sys.argv[1], infer_schema=False)"
            made = f"import sys, polars as pl; {read}.write_ndjson(sys.argv[2])"
            subprocess.run([PYTHON, "-c", made, data / "accounts.csv", file], check=True)
    own, _, _ = (HERE / "directory.toml").read_text("utf-8").partition("[factor.columns]")
    others = 'absent = ["elevation", "factor", "key", "grant"]'
    (folder / "map.toml").write_text(own.replace('absent = ["elevation"]', others), "utf-8")
    told = ACCOUNTS_ALONE.format(rules=HERE / "rulebook.toml", form=form, file=file)
    (folder / "estate.toml").write_text(told, "utf-8")
    return folder


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
    reading = Step("keymallet read", lambda: [KEYMALLET, "read", *AT])
    judge = Step("keymallet judge, 30 rules, from the snapshot", lambda: [KEYMALLET, "judge", *AT])
    alone = {form: accounts_alone(data, form) for form in ("csv", "json")}
    either = [
        Step(
            f"keymallet read, accounts alone, {form}",
            lambda form=form: [KEYMALLET, "read", *AT, "--estate", str(alone[form] / "estate.toml")],  # type: ignore[misc]
        )
        for form in alone
    ]
    out = data / "findings"
    written = [
        Step(
            f"keymallet judge --format {form}",
            lambda form=form: [KEYMALLET, "judge", *AT, "--format", form, "--output", f"{out}.{form}"],  # type: ignore[misc]
        )
        for form in ("csv", "jsonl")
    ]
    ours = Step(
        "  the rules alone: Keymallet",
        lambda: [PYTHON, str(HERE / "judge_rules.py"), newest(), str(HERE / "rulebook.toml")],
    )
    many, thousand = data / "rules-300.toml", data / "rules-1000.toml"
    for number, file in ((300, many), (1000, thousand)):
        subprocess.run([PYTHON, HERE / "many_rules.py", str(number), file], check=True)

    def timed(rulebook: Path, what: str) -> Callable[[], list[str]]:
        return lambda: [PYTHON, str(HERE / "time_rules.py"), newest(), str(rulebook), what]

    own = HERE / "rulebook.toml"
    details = Step("  with since, until, because of each breach", timed(own, "details"))
    coming = Step("  with what turns to breach in 90 days", timed(own, "ahead"))
    tenfold = Step("  300 rules alone", timed(many, "judge"))
    checked = Step("keymallet rules check, 1,000 rules", lambda: [KEYMALLET, "rules", "check", str(thousand)])
    ahead = Step("keymallet ahead, 90 days", lambda: [KEYMALLET, "ahead", *AT])
    by_hand = Step("  the rules alone: pandas", lambda: [PYTHON, str(HERE / "pandas_rules.py"), newest()])
    told = [ours, details, coming, tenfold]
    steps = [bare, usage, parse, reading, judge, *either, *written, ahead, checked, *told, by_hand]
    inner: dict[str, list[float]] = {step.name: [] for step in (*told, by_hand)}
    for number in range(ROUNDS):
        for kept in (data, *alone.values()):
            shutil.rmtree(kept / "snapshots", ignore_errors=True)
        for step in steps:
            if step is by_hand and number >= 2:
                continue  # minutes at a million accounts, and steady: two rounds tell
            step.run(data)
        for step in (*told, by_hand) if number < 2 else told:
            inner[step.name].append(json.loads(step.told)["seconds"])
    if json.loads(ours.told)["breaches"] != json.loads(by_hand.told)["breaches"]:
        sys.exit("the two do not find the same breaches")

    rows = accounts * 17 // 10
    print(f"{accounts:,} accounts, {rows:,} rows beside them, {os.cpu_count()} cores; median of {ROUNDS}")
    print(f"{'whole processes':44} {'median':>10}  {'(range)':16}  {'peak':>8}")
    for step in steps:
        print(step.line())
    once, rules_by_hand, with_details, with_ahead, of_300 = (
        statistics.median(inner[step.name]) for step in (ours, by_hand, details, coming, tenfold)
    )
    print(f"\nwithout reading: Keymallet {once:.2f} s, pandas {rules_by_hand:.2f} s; same breaches")
    breaches, turning = (json.loads(step.told)["rows"] for step in (details, coming))
    print(
        f"30 rules {once:.2f} s; with since, until and because of {breaches:,} breaches {with_details:.2f} s;"
    )
    print(f"with {turning:,} that turn to breach in 90 days {with_ahead:.2f} s; 300 rules {of_300:.2f} s")
    bars = [
        (
            "read + judge against parsing alone",
            (reading.median + judge.median) / parse.median,
            "at most",
            3.0,
        ),
        ("judge from the snapshot, seconds", judge.median, "at most", 3.0),
        ("JSON lines against CSV, accounts alone", either[1].median / either[0].median, "at most", 2.0),
        ("judge --format csv against judge", written[0].median / judge.median, "at most", 2.0),
        ("judge --format csv, MB", max(written[0].peaks) / 1024, "at most", 650.0),
        ("pandas against Keymallet, rules alone", rules_by_hand / once, "at least", 25.0),
        ("keymallet --help against a bare python", usage.median / bare.median, "at most", 4.0),
        ("with since, until, because, against without", with_details / once, "at most", 2.5),
        ("ahead over 90 days against judging", with_ahead / once, "at most", 2.5),
        ("300 rules against 30", of_300 / once, "at most", 8.0),
        ("check of 1,000 rules, seconds", checked.median, "at most", 2.0),
    ]
    missed = 0
    for name, value, word, bar in bars:
        held = value <= bar if word == "at most" else value >= bar
        missed += not held
        print(f"{name:44} {value:8.2f}    {word} {bar:g}: {'held' if held else 'MISSED'}")
    return 1 if missed else 0


if __name__ == "__main__":
    sys.exit(main(Path(sys.argv[1]), int(sys.argv[2])))
