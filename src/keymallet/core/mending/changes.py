"""What a remedy changes in the facts, where that is known: the smallest change that ends the finding."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import polars as pl

from keymallet.core.facts.declaration import ACCOUNT, FACTOR, GRANT, KEY, TABLES
from keymallet.core.facts.evidence import ACCOUNT_ROW, Evidence, data_type

TABLE, ROW, PROPOSAL = "table", "row", "proposal"
"""Columns of findings to be mended: the table and row they are on, and the proposal that mends them."""


@dataclass(frozen=True)
class Act:
    """A change of one row: facts that are set, or the row taken away; `back` says how it is undone.

    `shows` is the fact in which an administrator sees the change, and what it is to be.
    """

    sets: Mapping[str, Any]
    removes: bool = False
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
            shows=("state", "revoked"),
            back="a revoked key stays revoked: issue a new one",
        ),
        ("remove-grant", GRANT.name): Act(
            {}, removes=True, shows=("role", "none"), back="give the role again"
        ),
        ("remove-factor", FACTOR.name): Act({}, removes=True, shows=("kind", "none"), back="enrol it again"),
    }


def laid_over(evidence: Evidence, changes: pl.DataFrame, acts: Mapping[tuple[str, str], Act]) -> Evidence:
    """The evidence as it would be with these changes made: `mend`, TABLE and ROW of each.

    A fact that the source does not tell is not changed: nobody would see it.
    """
    tables = dict(evidence.tables)
    removed: dict[str, list[pl.Series]] = {}
    for (mend, table), mine in (
        changes.select("mend", TABLE, ROW).partition_by("mend", TABLE, as_dict=True).items()
    ):
        act, rows = acts[str(mend), str(table)], mine[ROW].cast(pl.UInt32)
        if act.removes:
            removed.setdefault(str(table), []).append(rows)
            continue
        frame = tables[str(table)]
        touched = pl.int_range(frame.height, dtype=pl.UInt32, eager=True).is_in(rows.implode())
        declared = TABLES[str(table)]
        for name, value in act.sets.items():
            column = declared.column(name)
            assert column is not None, f"{table} has no {name}"
            if name in frame.columns:
                word = pl.lit(value).cast(data_type(column))
                frame = frame.with_columns(pl.when(touched).then(word).otherwise(name).alias(name))
        tables[str(table)] = frame
    for name, gone in removed.items():
        frame = tables[name]
        places = pl.int_range(frame.height, dtype=pl.UInt32, eager=True)
        tables[name] = frame.filter(~places.is_in(pl.concat(gone).implode()))
    return Evidence(tables, evidence.supply, evidence.read_at, evidence.everywhere)


def accounts_of(evidence: Evidence, table: str, rows: pl.Series) -> pl.Series:
    """The rows of the accounts that rows of a table are, or belong to."""
    return rows.cast(pl.UInt32) if table == ACCOUNT.name else evidence.tables[table][ACCOUNT_ROW].gather(rows)
