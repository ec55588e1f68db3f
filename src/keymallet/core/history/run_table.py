"""The findings of a run as the logbook keeps them: what each is on, its life, whose it is, what was said."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

import polars as pl

from keymallet.core.explaining.findings import Alike, describe
from keymallet.core.facts.evidence import INSTANT
from keymallet.core.history.answerers import answerers
from keymallet.core.history.answers import Answers
from keymallet.core.history.columns import COLUMNS, FINDING, TOLD, TOLD_AT
from keymallet.core.history.due import due_dates
from keymallet.core.history.lives import Lives
from keymallet.core.history.observed import Observed


def run_table(
    observed: Observed,
    lives: Lives,
    before: pl.DataFrame | None,
    at: datetime,
    entries: Sequence[Answers],
    described: pl.DataFrame | None = None,
) -> pl.DataFrame:
    """All findings of a run, in the order of `observed.frame`, then those that were not seen: COLUMNS.

    What goes on as it was keeps what was said of it in the run `before`, with the instant; only what is new,
    or has another verdict, is described. With `described`, what is said of all of them in their order,
    nothing is taken over.
    """
    base = observed.frame.drop("row").hstack(lives.frame.drop(FINDING)).hstack(answerers(observed, entries))
    if described is not None:
        told = described.select(list(TOLD)).with_columns(_said_at(at))
        table = base.hstack(told)
    else:
        table = base.hstack(_told(observed, before, at))
    if lives.carried.height:
        carried = lives.carried.with_columns(pl.lit(None, dtype=pl.String).alias("verdict"))
        table = pl.concat([table, carried.select(table.columns)])
    due = due_dates(table, observed.judgement.rulebook)
    return table.with_columns(due).select(COLUMNS)


def _told(observed: Observed, before: pl.DataFrame | None, at: datetime) -> pl.DataFrame:
    """TOLD and TOLD_AT of every finding, in their order: taken over from the run before, or said now."""
    columns = [*TOLD, TOLD_AT]
    kept = pl.DataFrame(schema={**TOLD, TOLD_AT: INSTANT})
    place = pl.repeat(None, observed.frame.height, dtype=pl.UInt32, eager=True)
    if before is not None:
        kept = before.select(columns)
        known = (
            before.select(FINDING, "verdict").with_row_index("place").filter(before[TOLD_AT].is_not_null())
        )
        same = observed.frame.select(FINDING, "verdict")
        place = same.join(known, on=[FINDING, "verdict"], how="left", maintain_order="left")["place"]
    fresh = place.is_null()
    said, places = _said(observed, fresh, at)
    if said is None:
        return kept[place]
    numbers = pl.int_range(kept.height, kept.height + said.height, dtype=pl.UInt32, eager=True)
    return pl.concat([kept, said.select(columns)])[place.scatter(places, numbers)]


def _said(observed: Observed, fresh: pl.Series, at: datetime) -> tuple[pl.DataFrame | None, pl.Series]:
    """What is said now of those findings that are `fresh`, and where they stand."""
    asked, places = [], [pl.Series(dtype=pl.UInt32)]
    for found, mine in observed.of_each:
        mine = mine.cast(pl.UInt32)
        wanted = fresh.gather(mine)
        if not wanted.any():
            continue
        if found.rows is None:
            # What is said of numbers, or of nobody, is said of all of them: there are few.
            asked.append(found)
        else:
            asked.append(Alike(found.demand, found.verdict, found.rows.filter(wanted)))
            mine = mine.filter(wanted)
        places.append(mine)
    if not asked:
        return None, places[0]
    said = describe(observed.judgement, asked).select(list(TOLD)).with_columns(_said_at(at))
    return said, pl.concat(places)


def _said_at(at: datetime) -> pl.Expr:
    return pl.lit(at, dtype=INSTANT).alias(TOLD_AT)
