"""What a remedy changes in the facts, where that is known: the smallest change that ends the finding."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import polars as pl

from keymallet.core.facts.declaration import ACCOUNT, FACTOR, GRANT, KEY, TABLES
from keymallet.core.facts.evidence import ACCOUNT_ROW, Evidence, data_type
from keymallet.core.facts.tables.columns import STANDS_AT
from keymallet.core.rulebook.model import SEVERITIES

TABLE, ROW, PROPOSAL, FORM = "table", "row", "proposal", "form"
"""Columns of findings to be mended: the table and row they are on, the proposal that mends them, its form."""
BY_HAND, LDIF, SCIM, SHELL = "by hand", "LDIF", "SCIM", "shell"
"""Columns of findings to be mended: the table and row each is on, the proposal that mends it, its form."""

_GRADES = {word: int(severity) for word, severity in SEVERITIES.items()}


@dataclass(frozen=True)
class Act:
    """A change of one row: facts that are set, or the row removed; `back` says how it is undone.

    Made in a form of `removed_in` the row is removed as well, instead of its facts being set. Rows that in a
    form of `along_in` have the same values of `along` go with it: they rest on the same line of the system.
    `shows` is the fact in which an administrator sees the change, and what it is to be.
    """

    sets: Mapping[str, Any]
    removes: bool = False
    removed_in: frozenset[str] = frozenset()
    along_in: frozenset[str] = frozenset()
    along: tuple[str, ...] = ()
    shows: tuple[str, str] = ("", "")
    back: str = ""


def acts_at(at: datetime) -> dict[tuple[str, str], Act]:
    """The acts that are known, by the kind of change and the table it is made in; done at `at`.

    A new password is tried as if its holder had set it: that it is demanded ends nothing by itself.
    """
    new_password = {
        "password-changed": at,
        "password-must-change": False,
        "initial-password": False,
        "password-empty": False,
        "password-shared-with": [],
        "password-set-with": 0,
    }
    return {
        ("switch-off", ACCOUNT.name): Act(
            {"enabled": False}, shows=("enabled", "no"), back="switch it on again"
        ),
        ("change-password", ACCOUNT.name): Act(
            new_password, shows=("password-must-change", "yes"), back="no longer demand a new password"
        ),
        ("revoke-key", KEY.name): Act(
            {"state": "revoked"},
            removed_in=frozenset({LDIF, SHELL}),
            along_in=frozenset({SHELL}),
            along=(STANDS_AT.name, "key"),
            shows=("state", "revoked"),
            back="a revoked key stays revoked: issue a new one",
        ),
        ("remove-grant", GRANT.name): Act(
            {},
            removes=True,
            along_in=frozenset({LDIF, SHELL}),
            along=(ACCOUNT_ROW, STANDS_AT.name),
            shows=("role", "none"),
            back="give the role again",
        ),
        ("remove-factor", FACTOR.name): Act({}, removes=True, shows=("kind", "none"), back="enrol it again"),
    }


def grade() -> pl.Expr:
    """The severity as a number; a higher one is worse."""
    return pl.col("severity").cast(pl.String).replace_strict(_GRADES, return_dtype=pl.Int64)


def laid_over(evidence: Evidence, changes: pl.DataFrame, acts: Mapping[tuple[str, str], Act]) -> Evidence:
    """The evidence as it would be with these changes made: `mend`, TABLE, ROW and FORM of each.

    A fact that the source does not tell is not changed: nobody would see it.
    """
    tables = dict(evidence.tables)
    removed: dict[str, list[pl.Series]] = {}
    parts = changes.select("mend", TABLE, FORM, ROW).partition_by("mend", TABLE, FORM, as_dict=True)
    for (mend, table, form), mine in parts.items():
        act, rows = acts[str(mend), str(table)], mine[ROW].cast(pl.UInt32)
        if form in act.along_in:
            rows = _with_those_along(evidence, str(table), rows, act)
        if act.removes or form in act.removed_in:
            removed.setdefault(str(table), []).append(rows)
        else:
            tables[str(table)] = _with_facts(tables[str(table)], str(table), rows, act)
        if table == GRANT.name and form in act.along_in:
            tables[ACCOUNT.name] = _without_groups(tables[ACCOUNT.name], evidence.tables[GRANT.name][rows])
    for name, gone in removed.items():
        frame = tables[name]
        places = pl.int_range(frame.height, dtype=pl.UInt32, eager=True)
        tables[name] = frame.filter(~places.is_in(pl.concat(gone).implode()))
    return Evidence(tables, evidence.supply, evidence.read_at, evidence.everywhere)


def _with_facts(frame: pl.DataFrame, table: str, rows: pl.Series, act: Act) -> pl.DataFrame:
    touched = pl.int_range(frame.height, dtype=pl.UInt32, eager=True).is_in(rows.implode())
    for name, value in act.sets.items():
        column = TABLES[table].column(name)
        assert column is not None, f"{table} has no {name}"
        if name in frame.columns:
            word = pl.lit(value).cast(data_type(column))
            frame = frame.with_columns(pl.when(touched).then(word).otherwise(name).alias(name))
    return frame


def _with_those_along(evidence: Evidence, table: str, rows: pl.Series, act: Act) -> pl.Series:
    """The rows, and those of the same source that rest on the same line of it."""
    sources = evidence.tables[ACCOUNT.name]["source"].cast(pl.String)
    frame = evidence.tables[table].with_row_index("place")
    keyed = frame.select("place", *act.along, source=sources.gather(frame[ACCOUNT_ROW]))
    on = [*act.along, "source"]
    return keyed.join(keyed[rows].select(on), on=on, how="semi")["place"].cast(pl.UInt32)


def _without_groups(accounts: pl.DataFrame, left: pl.DataFrame) -> pl.DataFrame:
    """The accounts without the groups by which these rights were held."""
    if "groups" not in accounts.columns:
        return accounts
    named = pl.col("via").str.strip_prefix("group ")
    gone = left.group_by(pl.col(ACCOUNT_ROW).cast(pl.UInt32)).agg(named.alias("gone"))
    numbered = accounts.with_row_index("place").with_columns(pl.col("place").cast(pl.UInt32))
    joined = numbered.join(gone, left_on="place", right_on=ACCOUNT_ROW, how="left", maintain_order="left")
    fewer = pl.col("groups").list.set_difference("gone")
    return joined.with_columns(
        pl.when(pl.col("gone").is_not_null()).then(fewer).otherwise("groups").alias("groups")
    ).drop("place", "gone")
