"""The rows that an expression picks, with any columns."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import polars as pl

from keymallet.core.evaluating.context import EvaluationContext
from keymallet.core.evaluating.time_breakpoints import is_hop, local
from keymallet.core.facts.declaration import ACCOUNT, PERSON, TABLES
from keymallet.core.facts.evidence import ACCOUNT_ROW, account_names, source_column
from keymallet.core.facts.model import Kind, Table
from keymallet.core.language import typed
from keymallet.core.language.typed import Typed

_ALWAYS = {ACCOUNT.name: ("display", "unit"), PERSON.name: ("name", "unit")}
MOST_TOLD = 5
KEY = "="
"""What rows are to be sorted by."""


@dataclass(frozen=True)
class QueryResult:
    """What an expression picked: a row for each, the number there is, and of how many it cannot be told."""

    rows: pl.DataFrame
    kinds: dict[str, Kind]
    unknown: int
    asked: int


def together(parts: Sequence[QueryResult], *, descending: bool = False) -> QueryResult:
    """What was picked of all shards, from what `pick` left to be sorted in each, in their order."""
    rows = pl.concat(part.rows for part in parts)
    whole = QueryResult(rows, parts[0].kinds, sum(p.unknown for p in parts), sum(p.asked for p in parts))
    return in_order(whole, descending=descending)


def in_order(result: QueryResult, *, descending: bool = False) -> QueryResult:
    """The rows sorted by KEY, if they have it, what is not known last; without it."""
    if KEY not in result.rows.columns:
        return result
    rows = result.rows.sort(KEY, descending=descending, nulls_last=True, maintain_order=True)
    return replace(result, rows=rows.drop(KEY))


@dataclass(frozen=True)
class Picking:
    """Which rows of a table, by a condition, or with `unknown` those of which it is not known; what of each.

    They are to be sorted by `sort`; else they stay in the order of the evidence. The table is named, so that
    another process has its own.
    """

    table: str
    condition: Typed
    columns: dict[str, Typed]
    sort: Typed | None = None
    unknown: bool = False

    @property
    def nodes(self) -> list[Typed]:
        """The condition, the columns, and what is sorted by."""
        return [self.condition, *self.columns.values(), *([self.sort] if self.sort else [])]

    @property
    def asked(self) -> list[tuple[str, Typed]]:
        """All of these, with the table they are asked of."""
        return [(self.table, node) for node in self.nodes]


def pick(context: EvaluationContext, picking: Picking) -> QueryResult:
    """The rows that are picked, in the order of the evidence, each with its KEY if they are to be sorted.

    The first column names the row: its account, its source, or its owner and itself.
    """
    table, columns = TABLES[picking.table], picking.columns
    truth, *values = context.work_out(table.name, picking.nodes)
    chosen = truth.is_null() if picking.unknown else truth.fill_null(False)
    rows = chosen.arg_true().cast(pl.UInt32)
    named = [_name(context, table, rows)]
    # The first column is there already, also where somebody asks for it by name.
    named += [
        value.gather(rows).alias(name)
        for name, value in zip(columns, values, strict=False)
        if name != named[0].name
    ]
    frame = pl.DataFrame(named)
    if picking.sort is not None:
        frame = frame.with_columns(values[-1].gather(rows).alias(KEY))
    kinds = {name: node.type.kind for name, node in columns.items()}
    return QueryResult(frame, kinds, truth.null_count(), len(truth))


def with_facts_of_accounts(result: QueryResult, told: pl.DataFrame, wanted: Sequence[str]) -> QueryResult:
    """The rows with what is `told` of the account of each, in the columns that are wanted, in their order."""
    more = [name for name in wanted if name in told.columns and name not in result.rows.columns]
    rows = result.rows.join(told.select("account", *more), on="account", how="left", maintain_order="left")
    first = [rows.columns[0]] if rows.columns[0] not in wanted else []
    last = [KEY] if KEY in rows.columns else []
    return replace(result, rows=rows.select(*first, *wanted, *last))


def counted_by(result: QueryResult, columns: list[str]) -> QueryResult:
    """How many rows were picked for each value of these columns, the most first; where none stands, null.

    Of a list, each member counts for itself.
    """
    rows = result.rows.select(columns)
    for name in columns:
        if rows.schema[name] == pl.List(pl.String):
            rows = rows.explode(name)
    counts = rows.group_by(columns, maintain_order=True).len("count")
    counts = counts.with_columns(pl.col("count").cast(pl.Int64))
    counts = counts.sort("count", *columns, descending=[True, *(False for _ in columns)], nulls_last=True)
    kinds: dict[str, Kind] = {
        name: Kind.WORD if kind is Kind.WORDS else kind for name, kind in result.kinds.items()
    }
    return QueryResult(counts, kinds | {"count": Kind.COUNT}, result.unknown, result.asked)


def usual_columns(table: Table, condition: Typed) -> list[str]:
    """What to show where nobody says: who it is, and the facts that the condition asks about."""
    asked = [part.text for part in local(condition) if isinstance(part, typed.Fact | typed.Derived)]
    asked += [part.text for part in local(condition) if is_hop(part) and isinstance(part, typed.OfOwner)
              and isinstance(part.body, typed.Fact | typed.Derived)]  # fmt: skip
    own = _ALWAYS.get(table.name, ())
    label = () if table.name in _ALWAYS else table.label
    names = dict.fromkeys([*own, *label, *asked])
    return [name for name in names if name not in ("account", "name") or table is PERSON][: MOST_TOLD + 2]


def _name(context: EvaluationContext, table: Table, rows: pl.Series) -> pl.Series:
    if table is ACCOUNT or table is PERSON:
        return context.rows_of(table.name, rows, [table.name])[table.name]
    if table.of_account:
        frame = context.rows_of(table.name, rows, ["account", ACCOUNT_ROW])
        return account_names(context.frames[ACCOUNT.name], frame).alias("account")
    source = source_column(table)
    return context.rows_of(table.name, rows, [source])[source].cast(pl.String).alias("source")
