"""Merely parses the CSV files with PyArrow: the floor that reading and judging are held against."""

from __future__ import annotations

import sys
from pathlib import Path

import pyarrow.csv

for name in ("accounts", "factors", "keys", "grants"):
    pyarrow.csv.read_csv(Path(sys.argv[1]) / f"{name}.csv")
