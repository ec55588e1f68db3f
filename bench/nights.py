"""Judges an estate once for each of N nights, each run into its logbook; in one process, for speed."""

from __future__ import annotations

import contextlib
import io
import os
import sys
from datetime import datetime, timedelta
from pathlib import Path

from keymallet.commands.main import main

BEGIN = datetime(2026, 11, 25, 9)


def nights(folder: Path, number: int) -> None:
    """Judge at the same hour of each day."""
    os.chdir(folder)
    for night in range(number):
        at = BEGIN + timedelta(days=night)
        with contextlib.redirect_stdout(io.StringIO()):
            main(["judge", "--at", f"{at:%Y-%m-%dT%H:%MZ}", "--record", "--fail-on", "never"])


if __name__ == "__main__":
    nights(Path(sys.argv[1]), int(sys.argv[2]))
