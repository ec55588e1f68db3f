"""What would end a breach: what has to be set to which value, added, taken away or done, in plain words.

`age(password-changed) <= 180d` is mended by a password set after a certain day; `ends is known` by an end
date. Where no value that is set in a system mends it, what people have to do is said: see `acts`.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta

import polars as pl

from keymallet.core.base.columns import only_where
from keymallet.core.explaining.acts import act
from keymallet.core.explaining.clauses import (
    DATED,
    bound_words,
    clause,
    is_stretch,
    thing,
    with_article,
    words_of,
)
from keymallet.core.explaining.explanation_context import ExplanationContext, QueriedRows
from keymallet.core.explaining.spoken_values import SpokenValues
from keymallet.core.explaining.wording import MIRRORED, OPPOSITE
from keymallet.core.facts.declaration import ELEVATION, SIGN_IN, TABLES, WAY_IN
from keymallet.core.facts.model import Column, Kind
from keymallet.core.facts.phrases import noun, phrase
from keymallet.core.language import typed
from keymallet.core.language.functions import FUNCTIONS, InTime
from keymallet.core.language.typed import Typed

MAKE_SURE = "make sure: "
"""What leads in what has to hold, where the kind of change says no more."""
_VERBS = ("is", "has", "can", "cannot", "does", "accepts", "asks", "belongs", "came", "still")
_OPENED_BY = {
    "enabled": True,
    "interactive": True,
    "remote-password": True,
    "remote-key": True,
    "privileged": True,
    "holds-power": True,
    "usable": True,
    "locked": False,
    "password-locked": False,
}
"""Flags, and which value of each lets somebody in, or gives power."""


def change(explained: ExplanationContext, lead: str) -> pl.Series:
    """What would make the expression true on these rows, on which it is false; one text for each row.

    What has to be set is led in by `lead`; what has to be done is an instruction of its own.
    """
    said = _Changes(explained, lead).needed(explained.about, True)
    return said.fill_null(f"{lead}{clause(explained.about)}").alias("change")


@dataclass(frozen=True)
class _Changes:
    """Says what has to change on the rows of an explanation."""

    explained: ExplanationContext
    lead: str

    def needed(self, node: Typed, wanted: bool) -> pl.Series:
        """What would give the expression the wanted truth; null where it has it, or is unknown."""
        match node:
            case typed.Not():
                return self.needed(node.operand, not wanted)
            case typed.Term():
                return self.needed(node.body, wanted)
            case typed.OfOwner():
                return _Changes(self.explained.of_owner(node), self.lead).needed(node.body, wanted)
            case typed.BoolOp():
                every = (node.word == "and") is wanted
                members = node.members if every else _without_opening(node.members, wanted)
                parts = [self._member(part, node.members, wanted, every) for part in members]
                link = "; " if every else ", or "
                text = _led_in_once(_each_once(parts, link), link, self.lead)
            case typed.Compare():
                text = self._compared(node, wanted)
            case typed.Known():
                text = self.explained.same_text(self._recorded(node, wanted))
            case typed.RowQuery() if node.question != "count":
                text = self._asked(node, wanted)
            case typed.Unshared():
                text = self.explained.same_text(
                    f"{self.lead}a {node.fact.text} of its own for each {noun(TABLES[node.table])}"
                )
            case _:
                text = self.explained.same_text(self._reached(node, wanted))
        return only_where(self.explained.value(node) == (not wanted), text)

    def _reached(self, node: Typed, wanted: bool) -> str:
        """What people do, or else what has to hold."""
        column = _column_of(node)
        upwards = wanted and not (isinstance(node, typed.Within) and node.negated)
        done = act(self.explained.table, column.name, upwards) if column else ""
        return done or self._stated(clause(node, wanted))

    def _stated(self, said: str) -> str:
        if self.lead == MAKE_SURE and not self.explained.prefix and said.split()[0] in _VERBS:
            return f"make sure that it {said}"
        owner = noun(TABLES[self.explained.table])
        return f"{self.lead}the {owner} {said}" if self.explained.prefix else f"{self.lead}{said}"

    def _recorded(self, node: typed.Known, wanted: bool) -> str:
        column = _column_of(node.operand)
        there = node.negated is not wanted
        done = act(self.explained.table, column.name, there) if column else ""
        if done or not there or column is None or column.kind is not Kind.INSTANT:
            return done or self._stated(clause(node, wanted))
        if not phrase(column).none.startswith("no "):
            return self._stated(clause(node, wanted))
        return f"set {with_article(clause(node, wanted).removesuffix(' on record'))}"

    def _member(self, node: Typed, members: tuple[Typed, ...], wanted: bool, every: bool) -> pl.Series:
        """One part of several; a fact to be set has to fit at once what else is asked of it."""
        text = self.needed(node, wanted)
        if not (every and wanted and isinstance(node, typed.Known) and not node.negated):
            return text
        column = _column_of(node.operand)
        if column and act(self.explained.table, column.name, True):
            return text
        for other in members:
            if isinstance(other, typed.Compare) and _is_of(other.left, node.operand):
                bound = self._compared(other, wanted)
                dated = node.operand.type.kind is Kind.INSTANT
                text = text + ": " + bound.str.strip_prefix(self.lead) if dated else bound
        return text

    def _compared(self, node: typed.Compare, wanted: bool) -> pl.Series:
        left, operator, right = node.left, node.operator, node.right
        if isinstance(left, typed.Const | typed.PerPopulation) and not isinstance(right, typed.Const):
            left, operator, right = right, MIRRORED[operator], left
        if not wanted:
            operator = OPPOSITE[operator]
        column = _column_of(left)
        done = act(self.explained.table, column.name, _goes_up(left, operator)) if column else ""
        if done:
            return self.explained.same_text(done)
        if isinstance(left, typed.RowQuery) and left.table in (SIGN_IN.name, ELEVATION.name):
            number = bound_words(operator, words_of(right), "{} of them")
            things = thing(TABLES[left.table], left.condition, True)
            return self.explained.same_text(f"find out why, and keep to {number} {things}")
        if isinstance(left, typed.Call) and FUNCTIONS[left.function].in_time.moves_by_itself and column:
            return self._dated(column, left, operator, right)
        dated = left.type.kind is Kind.INSTANT
        still = (
            (isinstance(right, typed.Const) and not dated) or column is None or isinstance(left, typed.Call)
        )
        if still and not isinstance(right, typed.PerPopulation):
            return self.explained.same_text(self._stated(clause(node, wanted)))
        value = SpokenValues(self.explained).value(right)
        said = left.text if column is None else phrase(column).second
        if column is not None and column.kind is Kind.INSTANT:
            before, after = DATED[operator].split("{}")
            return f"{self.lead}{said} {before}" + value + after
        before, _, after = said.partition("{}") if column else (f"{said} ", "", "")
        bound_before, bound_after = bound_words(operator, "{}", said).split("{}")
        return f"{self.lead}{before}{bound_before}" + value + bound_after + after

    def _dated(self, column: Column, left: typed.Call, operator: str, right: Typed) -> pl.Series:
        """`age(x) <= 90d` asks for an x after a day, `until(x) > 0s` for one that is still to come."""
        said, falls = phrase(column), FUNCTIONS[left.function].in_time is InTime.FALLS
        if falls and isinstance(right, typed.Const) and right.value == timedelta():
            ahead = operator in (">", ">=")
            return self.explained.same_text(
                f"{self.lead}{said.second} in the {'future' if ahead else 'past'}"
            )
        at = typed.At(typed.INSTANT, "at")
        if falls:
            edge = typed.AddSub(typed.INSTANT, "", "+", at, right)
        else:
            edge, operator = typed.AddSub(typed.INSTANT, "", "-", at, right), MIRRORED[operator]
        # A day is finer than people set dates: the day itself counts as after its first instant.
        before, after = DATED[">" if operator == ">=" else operator].split("{}")
        event = said.second if falls else said.first
        return f"{self.lead}{event} {before}" + SpokenValues(self.explained).value(edge) + after

    def _asked(self, node: typed.RowQuery, wanted: bool) -> pl.Series:
        rows = QueriedRows(self.explained, node)
        if node.question == "every":
            if wanted:
                return rows.listed(
                    False, f"{self._stated(clause(node))}; not so: ", self._stated(clause(node))
                )
            return self.explained.same_text(self._stated(clause(node, False)))
        if (node.question == "some") is wanted:
            return self.explained.same_text(f"add {with_article(rows.thing())}")
        verb = "close: " if node.table == WAY_IN.name else "end or remove "
        return rows.listed(True, verb, f"no {rows.thing()}")


def _each_once(texts: list[pl.Series], link: str) -> pl.Series:
    """The texts as one, each row's own ones once: two facts may be mended by the same act."""
    frame = pl.DataFrame([text.alias(str(number)) for number, text in enumerate(texts)])
    told = pl.concat_list(pl.all()).list.drop_nulls().list.unique(maintain_order=True)
    said = pl.when(told.list.len() > 0).then(told.list.join(link))
    return frame.select(said.alias("=")).to_series()


def _led_in_once(texts: pl.Series, link: str, lead: str) -> pl.Series:
    """Parts that are led in the same way are led in together; where the first is another thing, each is."""
    frame = pl.DataFrame({"text": texts})
    shorter = pl.col("text").str.replace_all(f"{link}{lead}", link, literal=True)
    return frame.select(
        pl.when(pl.col("text").str.starts_with(lead)).then(shorter).otherwise("text")
    ).to_series()


def _without_opening(members: tuple[Typed, ...], wanted: bool) -> tuple[Typed, ...]:
    """Of several ways to mend something those that open no account, if there is one."""

    def opens(node: Typed, value: bool) -> bool:
        match node:
            case typed.Not():
                return opens(node.operand, not value)
            case typed.Term() | typed.OfOwner():
                return opens(node.body, value)
            case _:
                column = _column_of(node)
                return column is not None and _OPENED_BY.get(column.name) is value

    kept = tuple(member for member in members if not opens(member, wanted))
    return kept or members


def _is_of(node: Typed, fact: Typed) -> bool:
    """Whether a side of a comparison is the fact, how far off it is, or how far from another."""
    if isinstance(node, typed.AddSub) and is_stretch(node):
        return fact in (node.left, node.right)
    return node == fact or (
        isinstance(node, typed.Call)
        and FUNCTIONS[node.function].in_time.moves_by_itself
        and node.arguments[0] == fact
    )


def _goes_up(left: Typed, operator: str) -> bool:
    """Whether a comparison asks for more or later of its fact: a smaller age is a later day."""
    up = operator in (">", ">=")
    rises = isinstance(left, typed.Call) and FUNCTIONS[left.function].in_time is InTime.RISES
    return up is not rises


def _column_of(node: Typed) -> Column | None:
    """The fact that an expression is about, if it is about one of the row at hand."""
    match node:
        case typed.Fact():
            return node.column
        case typed.Derived():
            return node.fact.column
        case typed.Call():
            return _column_of(node.arguments[0])
        case typed.Within() | typed.Includes() | typed.Pattern():
            return _column_of(node.operand)
        case _:
            return None
