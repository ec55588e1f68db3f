"""The exports of `unseen/`, what is right of each, and what a guess makes of them."""

from __future__ import annotations

import tomllib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from keymallet.fitting.guess import Guess, guess
from keymallet.fitting.matching import SURE, Asked
from keymallet.fitting.sample import read_sample
from tests.fitting.exports import NOW

FOLDER = Path(__file__).parent / "unseen"
Verdict = Literal["right", "missed", "wrong"]


@dataclass(frozen=True)
class Column:
    """One column of one export: what it should be (several answers, or none), what it was taken for."""

    file: str
    header: str
    wanted: tuple[str, ...]
    taken: tuple[str, ...]
    sure: bool
    verdict: Verdict


def exports() -> dict[str, dict[str, object]]:
    """What is right of each file, by its name."""
    return tomllib.loads((FOLDER / "expected.toml").read_text("utf-8"))


def guessed(file: str) -> Guess | None:
    """The guess for one of the files."""
    return guess(read_sample((FOLDER / file).read_bytes(), file), NOW.date(), Asked())


def columns_of(file: str) -> Iterator[Column]:
    """Each column of one file. What the map only mentions is not taken."""
    found = guessed(file)
    taken: dict[str, list[str]] = {}
    sure: set[str] = set()
    for part in found.parts if found else []:
        for match in part.matches:
            if match.fact.name == "account" and part.rows:
                continue  # the account around a list
            header = part.rows if match.of_member else match.column.header
            if part.uses(match):
                taken.setdefault(header, []).append(f"{part.table.name}.{match.fact.name}")
                sure |= {header} if match.sureness == SURE else set()
    columns: dict[str, str] = exports()[file]["columns"]  # type: ignore[assignment]
    for header, right in columns.items():
        wanted, got = tuple(right.split("|")) if right else (), tuple(taken.get(header, ()))
        # A status may say both that an account is enabled and that it is locked.
        others = set(got) - set(wanted) - ({"account.locked"} if "account.enabled" in wanted else set())
        verdict: Verdict = "wrong" if others else "right" if got or not wanted else "missed"
        yield Column(file, header, wanted, got, header in sure, verdict)
