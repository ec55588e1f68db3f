"""The thirty bench rules by Keymallet, the rules alone: seconds, peak memory, breaches of each."""

from __future__ import annotations

import json
import resource
import sys
import time
from datetime import UTC, datetime
from pathlib import Path
from zoneinfo import ZoneInfo

from keymallet.core.evaluating.context import columns_used
from keymallet.core.judging.judge import judge
from keymallet.core.rulebook.reading import read_rulebook
from keymallet.store.snapshot import read_snapshot

AT = datetime(2026, 11, 24, 9, tzinfo=UTC)


def main(snapshot: Path, rulebook: Path) -> None:
    book = read_rulebook(rulebook.read_text(), str(rulebook))
    evidence = read_snapshot(snapshot).evidence(columns_used(book.expressions()))
    started = time.perf_counter()
    counts = judge(evidence, book, AT, ZoneInfo("UTC")).counts()
    seconds = time.perf_counter() - started
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    found = {count.rule.id: count.breach for count in counts}
    print(json.dumps({"seconds": seconds, "peak-kb": peak, "breaches": found}))


if __name__ == "__main__":
    main(Path(sys.argv[1]), Path(sys.argv[2]))
