"""What would end a breach: the facts to change, and the values they would need, as the expression implies.

`age(password-changed) <= 180d` is mended by a password changed after a certain day; `ends is known`
by an end that is set. What an expression does not imply (a pattern that no longer matches, say) is
said as the condition that would have to hold.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta

import polars as pl

from keymallet.core.base.columns import only_where
from keymallet.core.evaluating.context import EvaluationContext
from keymallet.core.explaining.explanation_context import (
    ExplanationContext,
    QueriedRows,
    Texts,
    joined,
)
from keymallet.core.explaining.reasons import MIRRORED, OPPOSITE
from keymallet.core.explaining.wording import constant_text
from keymallet.core.facts.model import Kind
from keymallet.core.language import typed
from keymallet.core.language.functions import FUNCTIONS, InTime
from keymallet.core.language.typed import Typed

_BOUND = {
    "<=": "at most {}",
    "<": "less than {}",
    ">=": "at least {}",
    ">": "more than {}",
    "=": "{}",
    "!=": "other than {}",
}
_DATE = {
    "<=": "at the latest {}",
    "<": "before {}",
    ">=": "{} or later",
    ">": "after {}",
    "=": "{}",
    "!=": "other than {}",
}


def change(context: EvaluationContext, table: str, node: Typed, rows: pl.Series) -> pl.Series:
    """What would make `node` true on these rows, on which it is false; one text for each row."""
    said = _Changes(ExplanationContext(context, table, rows, node)).needed(node, True)
    return said.fill_null(f"{node.text} has to hold").alias("change")


@dataclass(frozen=True)
class _Changes:
    """Says what has to change on the rows of an explanation."""

    explained: ExplanationContext

    def needed(self, node: Typed, wanted: bool) -> pl.Series:
        """What would give the expression the wanted truth; null where it has it, or is unknown."""
        match node:
            case typed.Not():
                return self.needed(node.operand, not wanted)
            case typed.Term():
                return self.needed(node.body, wanted)
            case typed.OfOwner():
                return _Changes(self.explained.of_owner(node)).needed(node.body, wanted)
            case typed.BoolOp():
                every = (node.word == "and") is wanted
                parts = [self._member(part, node.members, wanted, every) for part in node.members]
                text = joined(parts, "; " if every else ", or ")
            case typed.Compare():
                text = self._compared(node, wanted)
            case typed.Within():
                word = "none of" if node.negated is wanted else "one of"
                text = self._of(node.operand, f"{word} {constant_text(node.choices)}")
            case typed.Includes():
                text = self._of(node.operand, f"{'with' if wanted else 'without'} {self._words(node)}")
            case typed.Known():
                text = self._of(
                    node.operand, "on record" if node.negated is not wanted else "gone from the record"
                )
                if node.negated is not wanted and node.operand.type.kind is Kind.INSTANT:
                    text = self._of(node.operand, "set")
            case typed.RowQuery() if node.question != "count":
                text = self._asked(node, wanted)
            case typed.Unshared():
                text = self.explained.same_text(f"a {node.fact.text} of its own for each account")
            case typed.Fact() | typed.Derived():
                text = self.explained.same_text(f"{self._name(node)}: {'yes' if wanted else 'no'}")
            case _:
                text = self.explained.same_text(f"{'' if wanted else 'not '}{node.text}")
        return only_where(self.explained.value(node) == (not wanted), text)

    def _member(self, node: Typed, members: tuple[Typed, ...], wanted: bool, every: bool) -> pl.Series:
        """One part of several; a fact to be set has to fit at once what else is asked of it."""
        text = self.needed(node, wanted)
        if not (every and wanted and isinstance(node, typed.Known) and not node.negated):
            return text
        for other in members:
            if isinstance(other, typed.Compare) and node.operand in set(other.walk()):
                bound = self._compared(other, wanted).str.strip_prefix(f"{self._name(node.operand)} ")
                text = text + ", " + bound
        return text

    def _of(self, operand: Typed, demand: str) -> pl.Series:
        return self.explained.same_text(f"{self._name(operand)} {demand}")

    def _name(self, node: Typed) -> str:
        if isinstance(node, typed.OfOwner):
            return f"{node.owner}.{node.body.text}"
        return f"{self.explained.prefix}{node.text}"

    def _words(self, node: typed.Includes) -> str:
        known = isinstance(node.wanted, typed.Const | typed.ConstList)
        words = constant_text(node.wanted) if known else node.wanted.text  # type: ignore[arg-type]
        return words if node.mode == "one" else f"{node.mode} of {words}"

    def _compared(self, node: typed.Compare, wanted: bool) -> pl.Series:
        left, operator, right = node.left, node.operator, node.right
        if isinstance(left, typed.Const | typed.PerPopulation):
            left, operator, right = right, MIRRORED[operator], left
        if not wanted:
            operator = OPPOSITE[operator]
        if isinstance(left, typed.Call) and FUNCTIONS[left.function].in_time.moves_by_itself:
            return self._dated(left, operator, right)
        if isinstance(left, typed.RowQuery) and left.question == "count":
            lead = f"{_BOUND[operator].split('{}')[0]}"
            after = f" {left.table}s" + (f" with {left.condition.text}" if left.condition else "")
            return lead + self._value(right) + after
        bounds = _DATE if left.type.kind is Kind.INSTANT else _BOUND
        before, after = bounds[operator].split("{}")
        return f"{self._name(left)} {before}" + self._value(right) + after

    def _dated(self, left: typed.Call, operator: str, right: Typed) -> pl.Series:
        """`age(x) <= 90d` asks for an x after a day, `until(x) > 0s` for one that is still to come."""
        instant = left.arguments[0]
        if isinstance(instant, typed.RowQuery):
            return self.explained.same_text(f"{left.text} {operator} {right.text}")
        name = self._name(instant)
        if (
            FUNCTIONS[left.function].in_time is InTime.FALLS
            and isinstance(right, typed.Const)
            and right.value == timedelta()
        ):
            ahead = operator in (">", ">=")
            return self.explained.same_text(f"{name} {'still to come' if ahead else 'in the past'}")
        at = typed.At(typed.INSTANT, "at")
        if FUNCTIONS[left.function].in_time is InTime.RISES:
            edge, operator = typed.AddSub(typed.INSTANT, "", "-", at, right), MIRRORED[operator]
        else:
            edge = typed.AddSub(typed.INSTANT, "", "+", at, right)
        # A day is finer than people set dates: the day itself counts as after its first instant.
        before, after = _DATE[">" if operator == ">=" else operator].split("{}")
        return f"{name} {before}" + self._value(edge) + after

    def _value(self, node: Typed) -> pl.Series:
        texts = Texts(self.explained)
        if isinstance(node, typed.Const | typed.ConstList):
            return self.explained.same_text(constant_text(node, self.explained.context.clock))
        if isinstance(node, typed.AddSub | typed.PerPopulation):
            return texts.plain(node)
        return texts.described(node)

    def _asked(self, node: typed.RowQuery, wanted: bool) -> pl.Series:
        rows = QueriedRows(self.explained, node)
        condition = f" with {rows.condition_text}" if node.condition else ""
        table = node.table
        if node.question == "every":
            if wanted:
                return rows.listed(False, f"{rows.condition_text} for {table} ", f"every {table}{condition}")
            return self.explained.same_text(f"a {table} without {rows.condition_text}")
        if (node.question == "some") is wanted:
            return self.explained.same_text(f"a {table}{condition}")
        return rows.listed(True, f"no longer{condition}: {table} ", f"no {table}{condition}")
