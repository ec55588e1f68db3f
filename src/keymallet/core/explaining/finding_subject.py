"""Whom a verdict is on: the account, the key or grant of it, the name and unit, for many rows at once."""

from __future__ import annotations

import polars as pl

from keymallet.core.evaluating.context import EvaluationContext
from keymallet.core.explaining.row_names import named_by, row_name
from keymallet.core.explaining.wording import label_text
from keymallet.core.facts.declaration import ACCOUNT, PERSON, SIGN_IN
from keymallet.core.facts.evidence import ACCOUNT_ROW, account_names, source_column
from keymallet.core.facts.model import Table

_MOST_IN_A_NAME = 2


def subjects_of(
    context: EvaluationContext, table: Table, rows: pl.Series, also: tuple[str, ...] = ()
) -> pl.DataFrame:
    """`account`, `subject`, `display` and `unit` of these rows of a table; and `also` facts of the account.

    `account` is the source where the rows are of something in force in a source, or of people; `subject`
    is null where the row is the account itself. Facts of accounts are null for people and settings.
    """
    if table is ACCOUNT:
        accounts = context.rows_of(table.name, rows, ("account", "display", "unit", *also))
        nothing = pl.lit(None, dtype=pl.String).alias("subject")
        return accounts.with_columns(nothing).select("account", "subject", "display", "unit", *also)
    wanted = {"account", ACCOUNT_ROW, source_column(table), *table.label[:_MOST_IN_A_NAME], "name", "unit"}
    names = [name for name in context.frames[table.name].columns if name in wanted]
    frame = context.rows_of(table.name, rows, names)
    if table is PERSON:
        who = frame.select(pl.col("name").alias("display"), "unit", *_none(also))
    elif table.of_account:
        who = context.rows_of(ACCOUNT.name, frame[ACCOUNT_ROW], ("display", "unit", *also))
    else:
        nothing_known = ("display", "unit", *also)
        who = frame.with_columns(_none(nothing_known)).select(nothing_known)
    if table.of_account:
        account = account_names(context.frames[ACCOUNT.name], frame)
    else:
        account = frame[source_column(table)].cast(pl.String)
    # Two sign-ins from one place are told apart by when they were.
    if table is SIGN_IN:
        timed = context.rows_of(
            table.name, rows, {*named_by(table)} & set(context.frames[table.name].columns)
        )
        subject = row_name(table, timed.columns, context.clock)
        return timed.select(account.alias("account"), subject.alias("subject")).hstack(who)
    labels = [label_text(table, name) for name in table.label[:_MOST_IN_A_NAME]]
    # A row that is its account's only one has no name of its own.
    nothing = pl.lit(None, dtype=pl.String)
    subject = pl.concat_str(labels, separator=" ", ignore_nulls=True) if labels else nothing
    return frame.select(account.alias("account"), subject.alias("subject")).hstack(who)


def _none(names: tuple[str, ...]) -> list[pl.Expr]:
    return [pl.lit(None, dtype=pl.String).alias(name) for name in names]
