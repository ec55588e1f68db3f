"""Why a row is in breach, as text: the comparisons that made it so, with the row's own figures.

`because(node, wanted)` explains, for the rows where an expression has the other truth value than
the one wanted, which comparisons made it so: of `and` the failed parts, of `or` all of them, of a
question about rows which rows.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta

import polars as pl

from keymallet.core.base.columns import only_where
from keymallet.core.base.listing import first_few, listed
from keymallet.core.evaluating.context import EvaluationContext
from keymallet.core.explaining.explanation_context import (
    ExplanationContext,
    QueriedRows,
    Texts,
    joined,
)
from keymallet.core.explaining.finding_subject import subjects_of
from keymallet.core.explaining.wording import constant_text
from keymallet.core.facts.declaration import ACCOUNT, TABLES
from keymallet.core.facts.model import Kind
from keymallet.core.language import typed
from keymallet.core.language.functions import FUNCTIONS, InTime
from keymallet.core.language.typed import Typed

OPPOSITE = {"<=": ">", "<": ">=", ">=": "<", ">": "<=", "=": "!=", "!=": "="}
MIRRORED = {"<=": ">=", "<": ">", ">=": "<=", ">": "<", "=": "=", "!=": "!="}
_DEMAND = {
    "<=": "at most {} is allowed",
    "<": "less than {} is allowed",
    ">=": "at least {} is asked for",
    ">": "more than {} is asked for",
    "=": "asked for is {}",
    "!=": "not allowed is {}",
}

_DATED = _DEMAND | {
    "<=": "it has to be {} at the latest",
    "<": "it has to be before {}",
    ">=": "it has to be {} or later",
    ">": "it has to be after {}",
}


def because(context: EvaluationContext, table: str, node: Typed, rows: pl.Series) -> pl.Series:
    """Explain why `node` is false on these rows of a table; one text for each row."""
    reasons = _Reasons(ExplanationContext(context, table, rows, node))
    return reasons.because(node, True).fill_null(f"{node.text} does not hold").alias("because")


@dataclass(frozen=True)
class _Reasons:
    """Explains expressions on the rows of an explanation."""

    explained: ExplanationContext

    def because(self, node: Typed, wanted: bool) -> pl.Series:
        """Text where the value is known and not `wanted`; null elsewhere."""
        match node:
            case typed.Not():
                return self.because(node.operand, not wanted)
            case typed.Term():
                return self.because(node.body, wanted)
            case typed.OfOwner():
                return _Reasons(self.explained.of_owner(node)).because(node.body, wanted)
            case typed.BoolOp():
                members = [self.because(member, wanted) for member in node.members]
                text = (
                    _joined_once(members) if len(members) > _FEW else joined(_told_once(members), ". Also ")
                )
            case typed.Compare():
                text = self._compared(node, wanted)
            case typed.Within():
                text = self._demanded(node.operand, _membership(node, wanted))
            case typed.Includes():
                text = self._demanded(node.operand, self._wanted_words(node, wanted))
            case typed.Pattern():
                word = "asked for is" if wanted else "not allowed is"
                text = self._demanded(node.operand, f"{word} {node.word} '{node.pattern}'")
            case typed.Known() if node.negated is wanted:
                text = Texts(self.explained).described(node.operand)
            case typed.Known():
                text = self.explained.same_text(
                    f"{self.explained.prefix}{node.operand.text}: nothing on record"
                )
            case typed.RowQuery():
                text = self._asked(QueriedRows(self.explained, node), wanted)
            case typed.Unshared():
                text = _shared_with(self.explained, node)
            case _:
                text = Texts(self.explained).described(node)
        value = self.explained.value(node)
        return only_where(value == (not wanted), text)

    def _compared(self, node: typed.Compare, wanted: bool) -> pl.Series:
        left, operator, right = node.left, node.operator, node.right
        if isinstance(left, typed.Const):
            left, operator, right = right, MIRRORED[operator], left
        if not wanted:
            operator = OPPOSITE[operator]
        clock = self.explained.context.clock
        demand = (_DATED if left.type.kind is Kind.INSTANT else _DEMAND)[operator]
        described = Texts(self.explained).described(left)
        if isinstance(right, typed.PerPopulation):
            bound = "the least is " if operator in (">", ">=") else "the limit is "
            return joined([described, bound + Texts(self.explained).plain(right)])
        if isinstance(right, typed.Const) and right.limit:
            bound = "the least is" if operator in (">", ">=") else "the limit is"
            return joined([described, self.explained.same_text(f"{bound} {constant_text(right, clock)}")])
        if _is_to_come(left, operator, right):
            return joined([described, self.explained.same_text("it has to be still to come")])
        if isinstance(right, typed.Const):
            return joined([described, self.explained.same_text(demand.format(constant_text(right, clock)))])
        # The value is what is meant; the name says where it is from.
        before, after = demand.split("{}")
        value = Texts(self.explained).plain(right)
        return joined([described, before + value + f" ({self.explained.prefix}{right.text})" + after])

    def _demanded(self, operand: Typed, demand: str) -> pl.Series:
        return joined([Texts(self.explained).described(operand), self.explained.same_text(demand)])

    def _wanted_words(self, node: typed.Includes, wanted: bool) -> str:
        words = (
            constant_text(node.wanted)
            if isinstance(node.wanted, typed.Const | typed.ConstList)
            else node.wanted.text
        )
        if node.mode == "one":
            return f"{'asked for is' if wanted else 'not allowed is'} {words}"
        return f"{'asked for' if wanted else 'not allowed'} is {node.mode} of {words}"

    def _asked(self, rows: QueriedRows, wanted: bool) -> pl.Series:
        """Why the answer is not the wanted one."""
        question = rows.query.question
        condition = "" if rows.query.condition is None else f" with {rows.query.condition.text}"
        table = rows.query.table
        if question == "every" and wanted:
            lead = f"{rows.condition_text} does not hold for {table} "
            return rows.listed(False, lead, f"{lead}…")
        if question == "every":
            return rows.listed(None, f"{rows.condition_text} holds for {table} ", f"no {table} on record")
        if (question == "some") is wanted:
            return rows.listed(None, f"no {table}{condition}; on record: ", f"no {table} on record")
        return rows.listed(True, f"{table} ", f"{table}{condition}")


def _shared_with(explained: ExplanationContext, node: typed.Unshared) -> pl.Series:
    """`the same digest as: directory/a, cloud/b and 3 more`; without the value, which may be a secret."""
    context, table = explained.context, TABLES[node.table]
    frame = context.frames[node.table]
    everybody = subjects_of(context, table, pl.int_range(frame.height, dtype=pl.UInt32, eager=True))
    of_accounts = table is ACCOUNT or table.of_account
    counts = context.lowering.lower(node.who).fill_null(False).alias("counts")
    whole = frame.lazy().select(pl.col(node.fact.column.name).alias("value"), counts).collect()
    whole = whole.with_columns(
        context.shared_value(node, whole["value"]).alias("value"),
        everybody["account" if of_accounts else "subject"].alias("name"),
    )
    held = whole.filter("counts").drop_nulls("value").select("value", "name").unique(maintain_order=True)
    mine = whole[explained.rows].select("value", own="name").with_row_index("place")
    others = mine.join(held, on="value", how="left", maintain_order="left_right")
    others = others.filter(pl.col("name") != pl.col("own"))
    named = others.group_by("place", maintain_order=True).agg(first_few(pl.col("name")))
    sharers = named.select("place", listed(pl.lit(f"the same {node.fact.column.name} as: ")).alias("="))
    return mine.join(sharers, on="place", how="left", maintain_order="left")["="]


def _is_to_come(left: Typed, operator: str, right: Typed) -> bool:
    """Whether a comparison says no more than that something lies ahead: `until(ends) > 0s`."""
    ahead = (
        isinstance(left, typed.Call)
        and FUNCTIONS[left.function].in_time is InTime.FALLS
        and operator in (">", ">=")
    )
    return ahead and isinstance(right, typed.Const) and right.value == timedelta()


_FEW = 24
"""Up to so many reasons are held against each other; of more, only the same ones are told once."""


def _joined_once(texts: list[pl.Series]) -> pl.Series:
    """The different reasons of each row, one after the other: many of them, in time that grows as they do."""
    frame = pl.DataFrame([text.alias(str(number)) for number, text in enumerate(texts)])
    told = pl.concat_list(pl.all()).list.drop_nulls().list.unique(maintain_order=True)
    few = told.list.head(_FEW).list.join(". Also ")
    more = pl.format("{}. Also {} more", few, told.list.len() - _FEW)
    text = pl.when(told.list.len() > _FEW).then(more).when(told.list.len() > 0).then(few)
    return frame.select(text.alias("=")).to_series()


def _told_once(texts: list[pl.Series]) -> list[pl.Series]:
    """Leave out, on each row, a text that another one begins with: it says the same, and more."""
    frame = pl.DataFrame([text.alias(str(number)) for number, text in enumerate(texts)])
    kept = []
    for number in range(len(texts)):
        mine = pl.col(str(number))
        said = [
            (pl.col(str(other)).str.starts_with(mine) & ((pl.col(str(other)) != mine) | (other < number)))
            for other in range(len(texts))
            if other != number
        ]
        repeated = (
            pl.any_horizontal(sentence.fill_null(False) for sentence in said) if said else pl.lit(False)
        )
        kept.append(pl.when(~repeated).then(mine).alias(str(number)))
    return frame.select(kept).get_columns()


def _membership(node: typed.Within, wanted: bool) -> str:
    word = "not allowed" if node.negated is wanted else "allowed"
    return f"{word}: {constant_text(node.choices)}"
