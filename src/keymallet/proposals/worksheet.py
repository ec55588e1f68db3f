"""A worksheet: a line for each change, for whoever makes it by hand, with the way back."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from pathlib import Path
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.base.problems import fail
from keymallet.core.facts import wording
from keymallet.core.facts.declaration import ACCOUNT
from keymallet.core.facts.evidence import ACCOUNT_ROW, INSTANT, Evidence
from keymallet.core.history.columns import ANSWERER, FINDING
from keymallet.core.mending.changes import FORM, PROPOSAL, ROW, TABLE, Act
from keymallet.core.mending.forms import can_be_asked
from keymallet.core.mending.trial import Trial

COLUMNS = (
    *("proposal", "account", "subject", "what to do", "fact", "now", "then", "way back"),
    *("how", "severity", "rules", "findings", "answerer", "due"),
)
"""The columns of a worksheet, in the order in which its changes are to be made."""


def as_changes(
    proposed: pl.DataFrame,
    trial: Trial,
    acts: Mapping[tuple[str, str], Act],
    evidence: Evidence,
    clock: ZoneInfo,
) -> pl.DataFrame:
    """One line for each proposal that is not set aside, with `source` and the columns of a worksheet."""
    left = proposed.join(trial.aside, on=PROPOSAL, how="anti")
    lines = left.group_by(PROPOSAL, maintain_order=True).agg(
        pl.col("account").first(),
        pl.col(ACCOUNT_ROW).first(),
        pl.col("subject").drop_nulls().first(),
        pl.col("change").first().alias("what to do"),
        pl.col("mend").first(),
        pl.col(TABLE).first(),
        pl.col(ROW).first(),
        pl.col(FORM).first(),
        pl.col("severity").cast(pl.String).first(),
        pl.col("rule").cast(pl.String).unique(maintain_order=True).str.join(", ").alias("rules"),
        pl.col(FINDING).drop_nulls().unique(maintain_order=True).str.join(" ").alias("findings"),
        pl.col(ANSWERER).drop_nulls().first().alias("answerer"),
        pl.col("due").min(),
    )
    facts = [
        _fact(mend, table, row, acts, evidence)
        for mend, table, row in lines.select("mend", TABLE, ROW).iter_rows()
    ]
    told = pl.DataFrame(
        facts, schema=dict.fromkeys(("fact", "now", "then", "way back"), pl.String), orient="row"
    )
    whole = lines.hstack(told).rename({PROPOSAL: "proposal"})
    # A finding on a person or on something in force names its source alone; one on a number has none.
    sources = evidence.tables[ACCOUNT.name]["source"].cast(pl.String).gather(whole[ACCOUNT_ROW])
    of_source = pl.DataFrame({"own": sources, "named": whole["account"]}).select(
        source=pl.coalesce("own", "named")
    )
    due = wording.instants(whole["due"].cast(INSTANT), clock).alias("due")
    by_people = pl.when(pl.col(ROW).is_null()).then(pl.lit("for people")).otherwise(FORM).alias("how")
    whole = whole.with_columns(of_source["source"], due, by_people)
    return whole.select("source", "mend", TABLE, ROW, FORM, *COLUMNS)


def _fact(
    mend: str, table: str, row: int | None, acts: Mapping[tuple[str, str], Act], evidence: Evidence
) -> tuple[str, str | None, str, str]:
    if row is None:
        return "", None, "", ""
    act = acts[mend, table]
    fact, then = act.shows
    if mend == "change-password" and not can_be_asked(evidence.tables[table].row(row, named=True)):
        return (
            f"{table}.password-changed",
            _shown(evidence.tables[table]["password-changed"][row]),
            "today",
            "",
        )
    now = _shown(evidence.tables[table][fact][row])
    return f"{table}.{fact}", now, then, f"{act.back} ({fact}: {now})"


def _shown(value: object) -> str:
    if isinstance(value, datetime):
        return f"{value:%Y-%m-%d}"
    return "none" if value is None else "yes" if value is True else "no" if value is False else str(value)


def read_worksheets(folder: Path) -> pl.DataFrame:
    """The proposals in a folder: `proposal`, `account`, `what to do`, `findings`, in their order.

    Raises KeymalletError where there are none, or a file is no worksheet.
    """
    paths = sorted(folder.glob("*.csv"))
    if not paths:
        raise fail("no worksheet is there", file=str(folder), hint="name a folder that keymallet mend wrote")
    parts = [_read_worksheet(path) for path in paths]
    return pl.concat(parts).sort("proposal", maintain_order=True)


def _read_worksheet(path: Path) -> pl.DataFrame:
    try:
        sheet = pl.read_csv(path, infer_schema=False)
        number = pl.col("proposal").cast(pl.Int64)
        return sheet.select(number, *_READ)
    except (pl.exceptions.PolarsError, OSError) as error:
        why = " ".join(str(error).split())[:100]
        hint = f"a worksheet has the columns {', '.join(('proposal', *_READ))}"
        raise fail(f"this is no worksheet: {why}", file=str(path), hint=hint) from None


_READ = ("account", "what to do", "findings")
