"""What rows are called where they are named to people: `API key GVR-K-0041`, `code app (suspended)`."""

from __future__ import annotations

from collections.abc import Collection
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.facts.declaration import ACCOUNT, FACTOR, GRANT, SIGN_IN, WAY_IN
from keymallet.core.facts.model import Kind, Table
from keymallet.core.facts.phrases import read_words
from keymallet.core.facts.wording import DAY_AND_MINUTE

_LEADS_IN = {
    "network": "over the network",
    "console": "at the console",
    "service": "for programs",
    "federation": "through another system",
}


def named_by(table: Table) -> tuple[str, ...]:
    """The columns that a row's name is made of."""
    return {ACCOUNT.name: ("account",), SIGN_IN.name: ("at", "origin")}.get(table.name, table.label)


def row_name(table: Table, known: Collection[str], clock: ZoneInfo) -> pl.Expr:
    """The name of each row, of those of `named_by` that are `known`."""
    have = [name for name in named_by(table) if name in known]
    parts = {name: _read(table, name, clock) for name in have}
    if table is FACTOR and "state" in parts:
        working = pl.col("state").cast(pl.String) == "active"
        parts["state"] = pl.when(~working).then(pl.format("({})", parts["state"]))
    if table is GRANT and "via" in parts:
        through = pl.col("via").cast(pl.String)
        parts["via"] = pl.when(through != "direct").then(pl.format("(through {})", through))
    if table is SIGN_IN and "origin" in parts:
        parts["origin"] = pl.format("from {}", parts["origin"])
    if table is WAY_IN and {"over", "takes"} <= set(parts):
        key = {"key": parts["key"]} if "key" in parts else {}
        over = pl.col("over").cast(pl.String).replace_strict(_LEADS_IN)
        parts = {"takes": parts["takes"].fill_null("a way in"), **key, "over": over}
    return pl.concat_str(list(parts.values()), separator=" ", ignore_nulls=True)


def _read(table: Table, name: str, clock: ZoneInfo) -> pl.Expr:
    column = table.column(name)
    if column is None:
        return pl.col(name).cast(pl.String)
    if column.kind is Kind.INSTANT:
        return pl.col(name).dt.convert_time_zone(clock.key).dt.strftime(DAY_AND_MINUTE)
    if column.kind is Kind.WORDS:
        return read_words(pl.col(name), column.kind).list.join(" + ")
    return read_words(pl.col(name), column.kind) if column.words else pl.col(name).cast(pl.String)
