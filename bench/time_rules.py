"""What comes with the verdicts, timed apart: since, until and because of the breaches; what lies ahead.

Usage: time_rules.py SNAPSHOT RULEBOOK judge|details|ahead. Prints seconds without reading, and peak memory.
"""

from __future__ import annotations

import json
import resource
import sys
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path
from zoneinfo import ZoneInfo

from keymallet.core.evaluating.context import columns_used
from keymallet.core.explaining.findings import findings
from keymallet.core.judging.judge import judge
from keymallet.core.judging.verdicts import Verdict
from keymallet.core.rulebook.reading import read_rulebook
from keymallet.core.studies.ahead import coming
from keymallet.store.snapshot import read_snapshot

AT = datetime(2026, 11, 24, 9, tzinfo=UTC)


def main(snapshot: Path, rulebook: Path, what: str) -> None:
    book = read_rulebook(rulebook.read_text(), str(rulebook))
    evidence = read_snapshot(snapshot).evidence(columns_used(book.expressions()))
    started = time.perf_counter()
    judgement = judge(evidence, book, AT, ZoneInfo("UTC"))
    judgement.counts()
    rows = 0
    if what == "details":
        rows = findings(judgement, (Verdict.BREACH,)).height
    if what == "ahead":
        rows = coming(judgement, AT + timedelta(days=90)).height
    seconds = time.perf_counter() - started
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    print(json.dumps({"seconds": seconds, "peak-kb": peak, "rows": rows}))


if __name__ == "__main__":
    main(Path(sys.argv[1]), Path(sys.argv[2]), sys.argv[3])
