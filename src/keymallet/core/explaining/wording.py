"""Literals and limits as people read them."""

from __future__ import annotations

from datetime import datetime
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.facts.model import Kind, Table
from keymallet.core.language import typed
from keymallet.core.language.literals import span_text

OPPOSITE = {"<=": ">", "<": ">=", ">=": "<", ">": "<=", "=": "!=", "!=": "="}
MIRRORED = {"<=": ">=", "<": ">", ">=": "<=", ">": "<", "=": "=", "!=": "!="}


def label_text(table: Table, name: str) -> pl.Expr:
    """What tells a row from others of its owner, as text; several things together with a plus."""
    column = table.column(name)
    is_list = column is not None and column.kind is Kind.WORDS
    return pl.col(name).list.join("+") if is_list else pl.col(name).cast(pl.String)


def constant_text(node: typed.Const | typed.ConstList, clock: ZoneInfo | None = None) -> str:
    """Write a literal or a limit's value; an instant as a day of the clock, or as it was written."""
    if isinstance(node, typed.ConstList):
        return ", ".join(map(str, node.values))
    if node.type.kind is Kind.SPAN:
        return span_text(node.value)  # type: ignore[arg-type]
    if node.type.kind is Kind.FLAG:
        return "yes" if node.value else "no"
    if node.type.kind is Kind.TEXT:
        return f"'{node.value}'"
    if isinstance(node.value, datetime):
        shown = node.value.astimezone(clock) if clock and node.value.tzinfo else node.value
        return f"{shown:%Y-%m-%d}"
    return str(node.value)
