"""Which changes newly break something: those to the account, to others of its person, to what is counted."""

from __future__ import annotations

import polars as pl

from keymallet.core.evaluating.context import EvaluationContext
from keymallet.core.facts.declaration import ACCOUNT, PERSON, TABLES
from keymallet.core.facts.evidence import ACCOUNT_ROW, PERSON_ROW
from keymallet.core.judging.judge import Judgement
from keymallet.core.judging.tallies import COUNTS, GROUP, members
from keymallet.core.mending.changes import PROPOSAL, grade
from keymallet.core.rulebook.model import Tally

_LIKELY = ("switch-off", "remove-factor", "remove-grant", "revoke-key")


def nobody() -> pl.DataFrame:
    """No proposal, and no rule that it would break."""
    return pl.DataFrame(schema={PROPOSAL: pl.Int64, "why": pl.String})


def blamed_for(
    broken: pl.DataFrame, changes: pl.DataFrame, before: Judgement, after: Judgement
) -> pl.DataFrame:
    """The proposals that newly break something as grave as they mend, each with the rule it would break."""
    graded = changes.with_columns(grade().alias("grade"))
    worse = broken.with_columns(grade().alias("breaks"))
    of_people = before.context.frames[ACCOUNT.name][PERSON_ROW].cast(pl.UInt32)
    graded = graded.with_columns(of_people.gather(graded[ACCOUNT_ROW]).alias(PERSON_ROW))
    touched = pl.concat([worse, *_of_numbers(worse, graded, before, after)])
    parts = []
    # What is switched off in one system shows in another of the same person, and on the person.
    for by in (ACCOUNT_ROW, PERSON_ROW):
        told = pl.col("rule")
        if by == PERSON_ROW:
            whom = pl.format("{} ({})", "rule", "account")
            told = pl.when(pl.col("account").is_null()).then("rule").otherwise(whom)
        where = touched.drop_nulls(by).select(by, "breaks", broken_rule=told)
        parts.append(graded.select(PROPOSAL, "grade", by).join(where, on=by, how="inner").drop(by))
        touched = touched.join(graded.drop_nulls(by), on=by, how="anti")
    hit = pl.concat(parts).filter(pl.col("breaks") >= pl.col("grade"))
    hit = hit.sort("breaks", descending=True, maintain_order=True)
    return hit.unique(PROPOSAL, keep="first", maintain_order=True).select(
        pl.col(PROPOSAL).cast(pl.Int64), why=pl.col("broken_rule")
    )


def likeliest(blamed: pl.DataFrame, changes: pl.DataFrame) -> pl.DataFrame:
    """Of several changes of one account the one likeliest to break something: the others may be well."""
    likely = {kind: place for place, kind in enumerate(_LIKELY)}
    place = pl.col("mend").replace_strict(likely, default=len(likely), return_dtype=pl.Int64).alias("place")
    whose = changes.unique(PROPOSAL, maintain_order=True).select(PROPOSAL, ACCOUNT_ROW, place)
    ranked = blamed.join(whose, on=PROPOSAL, how="left", maintain_order="left")
    first = ranked.filter(pl.col("place") == pl.col("place").min().over(ACCOUNT_ROW))
    return first.select(blamed.columns)


def _of_numbers(
    worse: pl.DataFrame, graded: pl.DataFrame, before: Judgement, after: Judgement
) -> list[pl.DataFrame]:
    """For each number that would be wrong the accounts that make it so: as many as it is off by, and no more.

    Those whose changes mend the least grave findings go first: the others may be well.
    """
    parts = []
    for tally in after.rulebook.tallies:
        mine = worse.filter(pl.col("rule") == tally.id)
        if not mine.height:
            continue
        was, now = (_counted(each.context, tally) for each in (before, after))
        both = was.join(
            now, on=[ACCOUNT_ROW, GROUP], how="full", coalesce=True, nulls_equal=True, suffix="-now"
        )
        moved = both.with_columns(
            (pl.col("number-now").fill_null(0) - pl.col("number").fill_null(0)).alias("by")
        ).filter(pl.col("by") != 0)
        grades = graded.group_by(ACCOUNT_ROW).agg(pl.col("grade").max(), pl.col(PROPOSAL).max())
        ranked = moved.join(grades, on=ACCOUNT_ROW, how="inner").sort(
            "grade", PROPOSAL, descending=[False, True], maintain_order=True
        )
        earlier, later = off_by(before, tally), off_by(after, tally)
        for group in mine["subject"].unique(maintain_order=True):
            wrong = later[group]
            known = abs(earlier.get(group, 0)) if earlier.get(group, 0) * wrong > 0 else 0
            here = ranked.filter(pl.col(GROUP).eq_missing(group) & (pl.col("by") * wrong > 0))
            # One account may count several times over.
            enough = here.filter(pl.col("by").abs().cum_sum().shift(1).fill_null(0) < abs(wrong) - known)
            parts.append(mine.head(1).drop(ACCOUNT_ROW).join(enough.select(ACCOUNT_ROW), how="cross"))
    return [part.select(worse.columns) for part in parts]


def off_by(judgement: Judgement, tally: Tally) -> dict[str | None, int]:
    """How many there are too many in each group; a negative number: too few; 0: as many as there may be."""
    rows = judgement.numbers[tally.id].select(pl.col(GROUP).cast(pl.String), "sure", "may").iter_rows()
    return {
        group: max(sure - tally.most, 0) or -max(tally.least - sure - may, 0) for group, sure, may in rows
    }


def _counted(context: EvaluationContext, tally: Tally) -> pl.DataFrame:
    """How many rows count for each account and group; of people, for each of their accounts."""
    rows = members(context, tally)
    frame = context.frames[tally.table]
    places = pl.int_range(rows.height, dtype=pl.UInt32, eager=True)
    if tally.table == ACCOUNT.name:
        accounts = places
    elif TABLES[tally.table].of_account:
        accounts = frame[ACCOUNT_ROW].cast(pl.UInt32)
    else:
        accounts = pl.Series([None], dtype=pl.UInt32).new_from_index(0, rows.height)
    rows = rows.with_columns(accounts.alias(ACCOUNT_ROW), pl.col(GROUP).cast(pl.String))
    if tally.table == PERSON.name:
        of_people = context.frames[ACCOUNT.name][PERSON_ROW].cast(pl.UInt32)
        whose = of_people.to_frame("person").with_row_index(ACCOUNT_ROW).drop_nulls()
        rows = (
            rows.drop(ACCOUNT_ROW).with_columns(places.alias("person")).join(whose, on="person", how="inner")
        )
    counted = rows.filter(pl.col(COUNTS).fill_null(value=False) & pl.col(ACCOUNT_ROW).is_not_null())
    return counted.group_by(pl.col(ACCOUNT_ROW).cast(pl.UInt32), GROUP).agg(
        pl.len().cast(pl.Int64).alias("number")
    )
