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
from keymallet.core.facts import wording
from keymallet.core.facts.declaration import ACCOUNT, TABLES
from keymallet.core.facts.model import Kind
from keymallet.core.facts.wording import DETAILS
from keymallet.core.language import typed
from keymallet.core.language.functions import FUNCTIONS, InTime
from keymallet.core.language.typed import Typed

OPPOSITE = {"<=": ">", "<": ">=", ">=": "<", ">": "<=", "=": "!=", "!=": "="}
MIRRORED = {"<=": ">=", "<": ">", ">=": "<=", ">": "<", "=": "=", "!=": "!="}
_DEMAND = {
    "<=": "at most {} allowed",
    "<": "less than {} allowed",
    ">=": "at least {} required",
    ">": "more than {} required",
    "=": "required: {}",
    "!=": "not allowed: {}",
}

_DATED = _DEMAND | {
    "<=": "must be {} at the latest",
    "<": "must be before {}",
    ">=": "must be {} or later",
    ">": "must be after {}",
}
_HOURS_ALIKE = 48
"""What lies further apart is never written alike: a day is the coarsest unit."""
_LIMIT = {"<=": "limit {}", ">=": "minimum {}"}
"""How a named limit is told; one that may not even be reached is told as any other figure."""


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
                word = "required" if wanted else "not allowed"
                text = self._demanded(node.operand, f"{word}: {node.word} '{node.pattern}'")
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
        demand = (_DATED if left.type.kind is Kind.INSTANT else _DEMAND)[operator]
        named = isinstance(right, typed.PerPopulation) or (isinstance(right, typed.Const) and right.limit)
        demand = _LIMIT.get(operator, demand) if named else demand
        if _is_to_come(left, operator, right):
            return joined(
                [Texts(self.explained).described(left), self.explained.same_text("must be in the future")]
            )
        if isinstance(right, typed.Const) and right.value == 0 and operator == "=":
            return self._demanded(left, "none allowed")
        # The value is what is meant; the name says where it is from.
        name = f" ({self.explained.prefix}{right.text})" if _is_told_by_name(right) else ""
        before, after = demand.split("{}")
        choices = [
            joined(
                [
                    Texts(self.explained, detail).described(left),
                    before + self._right(right, detail) + name + after,
                ]
            )
            for detail in self._details(left, right)
        ]
        return choices[0] if len(choices) == 1 else self._first_apart(left, right, choices)

    def _right(self, right: Typed, detail: int) -> pl.Series:
        if isinstance(right, typed.Const) and not (detail and right.type.kind is Kind.INSTANT):
            return self.explained.same_text(constant_text(right, self.explained.context.clock))
        return Texts(self.explained, detail).plain(right)

    def _figures(self, left: Typed, right: Typed, detail: int) -> pl.DataFrame:
        """What is compared, as it is written in this detail."""
        kind, clock = left.type.kind, self.explained.context.clock
        sides = [("left", left), ("right", right)]
        return pl.DataFrame(
            [
                wording.values(self.explained.value(side), kind, clock, detail).alias(name)
                for name, side in sides
            ]
        )

    def _details(self, left: Typed, right: Typed) -> tuple[int, ...]:
        """In which details a comparison has to be told, so that no figure reads like its limit."""
        if left.type.kind not in (Kind.INSTANT, Kind.SPAN):
            return (0,)
        # Only what is less than two days apart can read alike: most is not, and is written once.
        apart = (self.explained.value(left) - self.explained.value(right)).dt.total_hours().abs()
        if not (apart < _HOURS_ALIKE).any():
            return (0,)
        figures = self._figures(left, right, 0)
        return DETAILS if (figures["left"] == figures["right"]).any() else (0,)

    def _first_apart(self, left: Typed, right: Typed, choices: list[pl.Series]) -> pl.Series:
        """Of each row the text in the least detail in which its figure is not written as its limit is."""
        chosen = choices[-1].alias("=")
        for detail in reversed(DETAILS[:-1]):
            figures = self._figures(left, right, detail)
            apart = pl.DataFrame(
                [choices[detail].alias("here"), chosen, (figures["left"] != figures["right"]).alias("apart")]
            )
            chosen = apart.select(pl.when("apart").then("here").otherwise("=").alias("=")).to_series()
        return chosen

    def _demanded(self, operand: Typed, demand: str) -> pl.Series:
        return joined([Texts(self.explained).described(operand), self.explained.same_text(demand)])

    def _wanted_words(self, node: typed.Includes, wanted: bool) -> str:
        words = (
            constant_text(node.wanted)
            if isinstance(node.wanted, typed.Const | typed.ConstList)
            else node.wanted.text
        )
        lead = "required" if wanted else "not allowed"
        return f"{lead}: {words}" if node.mode == "one" else f"{lead}: {node.mode} of {words}"

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


def _is_told_by_name(right: Typed) -> bool:
    """Whether what is compared with is a fact, whose name has to be said beside its value."""
    return not isinstance(right, typed.Const | typed.PerPopulation)


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
