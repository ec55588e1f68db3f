"""What is missing where a verdict cannot be given: the facts, and how each comes to be unknown."""

from __future__ import annotations

from dataclasses import dataclass

import polars as pl

from keymallet.core.base.columns import only_where
from keymallet.core.evaluating.context import EvaluationContext
from keymallet.core.explaining.explanation_context import ExplanationContext
from keymallet.core.explaining.missing_ways import missing_of_ways
from keymallet.core.facts.declaration import ACCOUNT, PERSON, SETTING, TABLES, WAY_IN
from keymallet.core.facts.evidence import (
    ACCOUNT_ROW,
    CANDIDATES,
    NOTHING_KNOWN,
    STRAYS,
    UNREAD,
    source_column,
)
from keymallet.core.facts.model import Derivation
from keymallet.core.language import typed
from keymallet.core.language.typed import Typed


def missing(context: EvaluationContext, table: str, nodes: list[Typed], rows: pl.Series) -> pl.Series:
    """Name the facts for want of which these expressions are unknown on these rows; a list for each row."""
    columns: list[pl.Series] = []
    for node in nodes:
        columns.extend(_Wanting(ExplanationContext(context, table, rows, node)).missing(node))
    named = pl.DataFrame([column.alias(str(number)) for number, column in enumerate(columns)])
    if not columns:
        return pl.Series("missing", [[]] * len(rows), dtype=pl.List(pl.String))
    lists = pl.concat_list(pl.all()).list.drop_nulls().list.unique(maintain_order=True)
    return named.select(lists.alias("missing")).to_series()


@dataclass(frozen=True)
class _Wanting:
    """Names what is wanting on the rows of an explanation."""

    explained: ExplanationContext

    def missing(self, node: Typed) -> list[pl.Series]:
        """Names of facts, each a column that is null where the fact is not wanting."""
        match node:
            case typed.Const() | typed.ConstList() | typed.At():
                return []
            case typed.Unshared():
                who_else = f"whether another {node.table} with the same {node.fact.column.name} counts"
                named = [self._named(node.fact), self.explained.same_text(who_else)]
                value = self.explained.value(node.fact)
                named = [only_where(value.is_null(), named[0]), only_where(value.is_not_null(), named[1])]
            case typed.OfOwner():
                named = _Wanting(self.explained.of_owner(node)).missing(node.body)
            case typed.Fact():
                named = [self._named(node)]
            case typed.Derived() if node.fact.column.derivation is Derivation.UNLESS_KNOWN:
                named = [self._named(node.fact)]
            case typed.Derived():
                named = self.missing(node.body)
            case typed.RowQuery():
                named = [self._named_rows(node)]
            case typed.Known():
                named = (
                    self.missing(node.operand)
                    if isinstance(node.operand, typed.Derived)
                    else [self._named(node.operand)]
                )
            case typed.Call() if node.nones:
                nones = [self.explained.value(none).fill_null(False) for none in node.nones]
                named = [
                    only_where(~none, column)
                    for argument, none in zip(node.arguments, nones, strict=True)
                    for column in self.missing(argument)
                ]
            case _:
                named = [column for part in node.parts for column in self.missing(part)]
        unknown = self.explained.value(node).is_null()
        return [only_where(unknown, column) for column in named]

    def _named(self, node: typed.Fact) -> pl.Series:
        """The fact's name, and how it comes to be unknown."""
        name = self.explained.prefix + node.text
        suppliers = self.explained.context.evidence.suppliers(node.table, node.column.name)
        supplied = self.explained.context.lowering.is_source_of(node.table, suppliers)
        how = (
            pl.when(supplied)
            .then(self._of_source(name, "not recorded in"))
            .otherwise(self._of_source(name, "not supplied by"))
        )
        if CANDIDATES in self.explained.frame.columns and node.column.name in _ABOUT_ITS_PERSON:
            ambiguous = pl.col(CANDIDATES).is_not_null()
            how = pl.when(ambiguous).then(pl.lit(f"{name} (it could be several people's)")).otherwise(how)
            return self._told(how)
        if UNREAD in self.explained.frame.columns:
            nothing = pl.col(UNREAD).list.contains(pl.lit(NOTHING_KNOWN))
            how = pl.when(nothing).then(pl.lit(f"{node.table} (nothing is known of it)")).otherwise(how)
            strays = pl.col(UNREAD).list.contains(pl.lit(STRAYS))
            anybodys = f"{node.table} (rows of the source name accounts that are not there)"
            how = pl.when(strays).then(pl.lit(anybodys)).otherwise(how)
            unread = pl.col(UNREAD).list.contains(pl.lit(node.column.name))
            how = pl.when(unread).then(pl.lit(f"{name} (unreadable)")).otherwise(how)
        return self._told(how)

    def _named_rows(self, node: typed.RowQuery) -> pl.Series:
        """The table that is not supplied, or the facts of its rows that are not known."""
        supplied = self.explained.context.lowering.is_source_of(
            "account", self.explained.context.evidence.suppliers(node.table)
        )
        if node.table == ACCOUNT.name:
            return self.explained.same_text(
                "accounts of which it is not known whose they are, or what they are"
            )
        if node.table == WAY_IN.name:
            return missing_of_ways(self.explained, node)
        used = dict.fromkeys(
            f"{node.table}.{part.text}" for part in node.walk() if isinstance(part, typed.Fact)
        )
        how = (
            pl.when(supplied)
            .then(self._of_source(", ".join(used), "not recorded in"))
            .otherwise(self._of_source(node.table, "not supplied by"))
        )
        told = self._told(how)
        anybodys = self._left_open_by_strays(node.table)
        if anybodys is None:
            return told
        said = f"{node.table} (rows of the source name accounts that are not there)"
        return pl.select(pl.when(anybodys).then(pl.lit(said)).otherwise(told).alias("=")).to_series()

    def _left_open_by_strays(self, table: str) -> pl.Series | None:
        """Which rows have no row of the table, where one that names nobody might be theirs; None: nowhere."""
        frame = self.explained.context.frames[table]
        if UNREAD not in frame.columns or not TABLES[table].of_account:
            return None
        owners = frame.filter(pl.col(UNREAD).list.contains(pl.lit(STRAYS)))[ACCOUNT_ROW]
        return self.explained.rows.is_in(owners.implode()) if len(owners) else None

    def _of_source(self, name: str, how: str) -> pl.Expr:
        """The fact, and the source of the row, which could have told it."""
        source = pl.col(source_column(TABLES[self.explained.table])).cast(pl.String)
        return pl.format("{} ({} {})", pl.lit(name), pl.lit(how), source.fill_null("its source"))

    def _told(self, how: pl.Expr) -> pl.Series:
        if self.explained.prefix:
            orphan = pl.col(source_column(TABLES[self.explained.table])).is_null()
            how = pl.when(orphan).then(pl.lit(_NOT_THERE[self.explained.table])).otherwise(how)
        return self.explained.frame.lazy().with_columns(how.alias("=")).select("=").collect().to_series()


_NOT_THERE = {
    ACCOUNT.name: "the account itself (not in the evidence)",
    PERSON.name: "the person itself (nobody on the roster is known to hold it)",
    SETTING.name: "the setting in force for it (none is known)",
}


_ABOUT_ITS_PERSON = ("person", "on-roster", "tied-by")
