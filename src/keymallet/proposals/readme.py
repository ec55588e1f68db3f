"""The page that lies on top of a folder of changes: what is in it, in which order, and what is not."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.base.listing import how_many
from keymallet.core.mending.changes import PROPOSAL, ROW
from keymallet.core.mending.proposals import needless
from keymallet.core.mending.trial import Trial, about, for_people
from keymallet.proposals.writing import BACK, Written


def readme(
    organisation: str,
    at: datetime,
    clock: ZoneInfo,
    files: Sequence[Written],
    written: pl.DataFrame,
    proposed: pl.DataFrame,
    trial: Trial,
) -> str:
    """The text, in Markdown."""
    day = f"{at.astimezone(clock):%Y-%m-%d %H:%M}"
    lines = [
        f"# {organisation}: changes proposed",
        "",
        f"Tried on the evidence as of {day}. Nothing is changed yet.",
        "",
    ]
    known = written.filter(pl.col("fact") != "").height
    lines += [
        f"- {how_many(proposed.height, 'finding')} chosen, {how_many(known, 'change')} proposed,"
        f" {how_many(written.height - known, 'thing')} for people"
    ]
    lines += [f"- made all together they end {how_many(trial.ended.height, 'finding')}"]
    lines += [
        f"- they would newly break {how_many(trial.broken.height, 'rule')}"
        if trial.broken.height
        else "- they would newly break nothing"
    ]
    lines += [
        "",
        "## In this order",
        "",
        "Proposals are numbered in the order in which they are made, over all files. Each file leaves alone",
        "what has changed since it was read. A worksheet lists every change of its system, also those that",
        "stand in another file (column `how`).",
        "",
    ]
    lines += [_told(each) for each in sorted(files, key=lambda each: each.first) if BACK not in each.name]
    undo = [each.name for each in files if BACK in each.name]
    if undo:
        lines += ["", "What undoes them: " + ", ".join(f"`{name}`" for name in undo) + "."]
    if trial.broken.height:
        lines += ["", "## What would newly be in breach, or further off", ""]
        lines += [f"- {row['rule']}: {about(row)}" for row in trial.broken.iter_rows(named=True)]
    if trial.aside.height:
        lines += ["", "## Set aside", "", "They would break something as grave as what they mend:", ""]
        told = proposed.join(trial.aside, on=PROPOSAL, how="inner").unique(PROPOSAL, maintain_order=True)
        lines += [f"- {for_people(row)}: would break {row['why']}" for row in told.iter_rows(named=True)]
    without = needless(proposed.join(trial.aside, on=PROPOSAL, how="anti"))
    if without.height:
        lines += ["", "## Needless, if the account is switched off as proposed", ""]
        lines += [
            f"- {row[PROPOSAL]}, by {row['other']}: {for_people(row)}"
            for row in without.iter_rows(named=True)
        ]
    by_people = proposed.filter(pl.col(ROW).is_null()).unique(PROPOSAL, maintain_order=True)
    if by_people.height:
        lines += [
            "",
            "## For people",
            "",
            "No change of one fact mends these; they stand in the worksheets as well:",
            "",
        ]
        lines += [f"- {for_people(row)}" for row in by_people.iter_rows(named=True)]
    after = (
        "Afterwards: `keymallet read`, `keymallet judge`; `keymallet changes --proposals` with this folder."
    )
    lines += ["", after, ""]
    return "\n".join(" ".join(line.split()) if line.startswith("- ") else line for line in lines)


def _told(file: Written) -> str:
    how = f": {file.how}" if file.how else ""
    return f"- `{file.name}` (from {file.first} on, {how_many(file.number, 'change')}){how}"
