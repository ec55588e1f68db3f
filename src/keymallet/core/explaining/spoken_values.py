"""Values of rows as people hear them: `password set 2026-03-02, 267 d ago`, `4 failed sign-ins`."""

from __future__ import annotations

from dataclasses import dataclass

import polars as pl

from keymallet.core.explaining.clauses import event, is_stretch, thing, words_of
from keymallet.core.explaining.explanation_context import ExplanationContext, QueriedRows
from keymallet.core.explaining.wording import constant_text
from keymallet.core.facts import wording
from keymallet.core.facts.declaration import TABLES
from keymallet.core.facts.model import Column, Kind
from keymallet.core.facts.phrases import read_words, spoken
from keymallet.core.language import typed
from keymallet.core.language.functions import FUNCTIONS, InTime
from keymallet.core.language.typed import Typed

_BY_THE_MINUTE = 1


@dataclass(frozen=True)
class SpokenValues:
    """Values of the subject's rows with what they are; instants and lengths as closely as `detail` says."""

    explained: ExplanationContext
    detail: int = 0

    def said(self, node: Typed) -> pl.Series:
        """What is the case on each row, as a phrase with its value."""
        explained = self.explained
        match node:
            case typed.OfOwner():
                return SpokenValues(explained.of_owner(node), self.detail).said(node.body)
            case typed.Term():
                return self.said(node.body)
            case typed.Fact():
                return self._fact(node, node.column)
            case typed.Derived():
                return self._fact(node, node.fact.column)
            case typed.Call():
                return self._called(node)
            case typed.RowQuery() if node.question == "count":
                return QueriedRows(explained, node).counted()
            case typed.RowQuery() if node.question in ("latest", "earliest"):
                # That it is known is part of every such question, and goes without saying.
                asked = thing(TABLES[node.table], node.condition).removesuffix(" on record")
                return f"{node.question} {asked}: " + self.value(node)
            case typed.AddSub() if is_stretch(node):
                return self.value(node) + f" from {event(node.right)} to {event(node.left)}"
            case typed.AddSub() if node.type.kind is Kind.INSTANT:
                return self.value(node) + f" ({event(node.left)} {node.operator} {words_of(node.right)})"
            case typed.Const() | typed.ConstList():
                return explained.same_text(constant_text(node, explained.context.clock))
            case typed.PerPopulation():
                return self.value(node)
            case _:
                return f"{explained.prefix}{node.text}: " + self.value(node)

    def value(self, node: Typed) -> pl.Series:
        """The value alone, without a name; a word of a closed set as it is read."""
        value = self.explained.value(node)
        return self._written(value, node).fill_null("unknown")

    def _written(self, value: pl.Series, node: Typed) -> pl.Series:
        if node.type.words:
            read = read_words(pl.col("v"), node.type.kind)
            value = pl.DataFrame({"v": value}).select(read).to_series()
        return wording.values(value, node.type.kind, self.explained.context.clock, self.detail)

    def _fact(self, node: Typed, column: Column) -> pl.Series:
        value = self.explained.value(node)
        frame = pl.DataFrame({"value": value, "written": self._written(value, node)})
        now = pl.lit(self.explained.context.at)
        told = spoken(column, pl.col("value"), pl.col("written"), now)
        lead = self.explained.lead(column.kind)
        return frame.select(pl.concat_str(pl.lit(lead), told).alias("=")).to_series()

    def _called(self, node: typed.Call) -> pl.Series:
        function, first = FUNCTIONS[node.function], node.arguments[0]
        if function.in_time.moves_by_itself:
            since = self.explained.value(typed.Call(typed.SPAN, "", "age", (first,)))
            told = SpokenValues(self.explained).said(first)
            both = pl.DataFrame({"told": told, "ago": wording.ago(since, self.detail)})
            return both.select(pl.concat_str("told", "ago", separator=", ", ignore_nulls=True)).to_series()
        if function.many:
            return self._chosen(node)
        if node.function == "length" and first.type.kind is Kind.WORDS:
            return self._counted(node)
        if function.in_time is InTime.TICKS:
            told = SpokenValues(self.explained, _BY_THE_MINUTE).said(first)
            unit = ", hour " if node.type.kind is Kind.COUNT else ", a "
            return told + unit + self.value(node)
        if node.function == "length":
            return self.value(node) + " characters: " + self.said(first)
        return self.said(first)

    def _chosen(self, node: typed.Call) -> pl.Series:
        """Of several facts the one that was chosen on each row."""
        chosen = self.explained.value(node)
        columns = {"none": self.said(node.arguments[-1])}
        told = pl.col("none")
        for number, argument in reversed(list(enumerate(node.arguments))):
            columns[f"is {number}"] = self.explained.value(argument).eq_missing(chosen)
            columns[f"told {number}"] = self.said(argument)
            told = pl.when(f"is {number}").then(f"told {number}").otherwise(told)
        return pl.DataFrame(columns).select(told.alias("=")).to_series()

    def _counted(self, node: typed.Call) -> pl.Series:
        """`labels contractor, visitor (2)`: what is listed, and how many."""
        told = pl.DataFrame({"told": self.said(node.arguments[0]), "number": self.explained.value(node)})
        several = pl.when(pl.col("number") > 1).then(pl.format("{} ({})", "told", "number"))
        return told.select(several.otherwise("told").alias("=")).to_series()
