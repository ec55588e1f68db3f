"""Writes a rulebook of N rules: the bench's thirty again and again, each time with other figures.

Usage: many_rules.py N FILE
"""

from __future__ import annotations

import re
import sys
from pathlib import Path

HERE = Path(__file__).parent


def main(number: int, target: Path) -> None:
    text = (HERE / "rulebook.toml").read_text()
    start = text.index("[rule.")
    rules = [f"[rule.{rule}" for rule in text[start:].split("[rule.")[1:]]
    written = [text[:start]]
    for each in range(number):
        turn, rule = divmod(each, len(rules))
        created = "account.created" if "each =" in rules[rule] else "created"
        # Each round says something of its own; what it asks about rows, it shares with the others.
        varied = re.sub(r'must = "(.*)"', rf'must = "(\1) or age({created}) < {turn}min"', rules[rule])
        written.append(re.sub(r"\[rule\.(\w+)", rf"[rule.\1-{turn}", varied, count=1))
    target.write_text("".join(written))


if __name__ == "__main__":
    main(int(sys.argv[1]), Path(sys.argv[2]))
