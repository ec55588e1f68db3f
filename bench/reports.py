"""Times the reports: each format of about 2,000 findings, those of N accounts against judging."""

from __future__ import annotations

import shutil
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

from run import AT, HERE, KEYMALLET, PYTHON, Step

ROUNDS = 3
FEW = 2_333
"""So many accounts have about 2,000 findings."""
QUICK = ("page", "markdown", "workbook", "letter", "calendar", "csv", "json", "jsonl", "junit", "openmetrics")
QUICK += ("oscal", "ocsf", "sarif", "syslog")
STREAMED = ("csv", "jsonl", "ocsf", "syslog")
ONCE = "workbook"
"""It takes longer than all the others together."""


def main(folder: Path, accounts: int) -> int:
    """Generate both estates if need be, run every step, print the table and the ratios."""
    few, many = (_estate(folder, number) for number in (FEW, accounts))
    quick = {name: Step(f"report --format {name}", _report(name)) for name in QUICK}
    judge = Step("judge", lambda: [KEYMALLET, "judge", *AT])
    lines = Step(
        "judge --format jsonl",
        lambda: [KEYMALLET, "judge", *AT, "--format", "jsonl", "--output", "all.jsonl"],
    )
    large = {name: Step(f"report --format {name}", _report(name)) for name in (*STREAMED, "page")}
    book = Step(f"report --format {ONCE}", _report(ONCE))
    for _ in range(ROUNDS):
        for step in quick.values():
            step.run(few)
        for step in (judge, lines, *large.values()):
            step.run(many)
    book.run(many)
    print(f"{FEW:,} accounts; median of {ROUNDS}")
    for step in quick.values():
        print(step.line())
    print(f"{accounts:,} accounts")
    for step in (judge, lines, *large.values(), book):
        print(step.line())
    bars = [(f"{name} of about 2,000 findings, seconds", step.median, 1.5) for name, step in quick.items()]
    bars += [
        (f"{name} against judge --format jsonl", large[name].median / lines.median, 1.5) for name in STREAMED
    ]
    page = many / "r" / "page" / "report.html"
    bars += [
        ("page against judge", large["page"].median / judge.median, 2.0),
        ("page, MB", page.stat().st_size / 1e6, 3.0),
        ("page of about 2,000 findings, MB", (few / "r/page/report.html").stat().st_size / 1e6, 2.0),
    ]
    missed = 0
    for name, value, bar in bars:
        missed += value > bar
        print(f"{name:44} {value:8.2f}    at most {bar:g}: {'held' if value <= bar else 'MISSED'}")
    return 1 if missed else 0


def _report(name: str) -> Callable[[], list[str]]:
    return lambda: [KEYMALLET, "report", "--format", name, "--into", f"r/{name}"]


def _estate(folder: Path, accounts: int) -> Path:
    """An estate of so many accounts that was read and judged once."""
    data = (folder / f"{accounts}-reports").resolve()
    if not (data / "judged").exists():
        shutil.rmtree(data, ignore_errors=True)
        subprocess.run([PYTHON, HERE / "generate.py", data, str(accounts)], check=True)
        file = data / "estate.toml"
        file.write_text(file.read_text().replace('clock = "UTC"', 'clock = "UTC"\nlogbook = "logbook"'))
        for words in (["read", *AT], ["judge", *AT, "--record"]):
            subprocess.run([KEYMALLET, *words], cwd=data, check=False, stdout=subprocess.DEVNULL)
        (data / "judged").touch()
    return data


if __name__ == "__main__":
    sys.exit(main(Path(sys.argv[1]), int(sys.argv[2])))
