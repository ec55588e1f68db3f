"""Why a row is in breach: the comparisons that made it so, with the row's own figures.

`reasons(explained)` finds, for rows on which an expression is false, what made it so: of
`and` the failed parts, of `or` all of them, of a question about rows which rows, of a worked-out fact what it
rests on. Each `Reason` is a template and its arguments, for all rows at once; `because` makes them text.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from datetime import timedelta

import polars as pl

from keymallet.core.base.columns import only_where
from keymallet.core.base.listing import listed
from keymallet.core.explaining.clauses import clause, is_telling, parts_of, words_of
from keymallet.core.explaining.explanation_context import ExplanationContext, QueriedRows, joined
from keymallet.core.explaining.reason_templates import filled
from keymallet.core.explaining.sharers import shared_with
from keymallet.core.explaining.spoken_values import SpokenValues
from keymallet.core.explaining.wording import MIRRORED, OPPOSITE, constant_text
from keymallet.core.facts import wording
from keymallet.core.facts.declaration import TABLES
from keymallet.core.facts.model import Column, Kind
from keymallet.core.facts.phrases import noun
from keymallet.core.facts.wording import DETAILS
from keymallet.core.language import typed
from keymallet.core.language.functions import FUNCTIONS, InTime
from keymallet.core.language.typed import Typed

_FIGURES = {"<=": "at-most", "<": "less-than", ">=": "at-least", ">": "more-than"}
_DATES = {"<=": "no-later-than", "<": "before", ">=": "no-earlier-than", ">": "after"}
_EITHER = {"=": "equal", "!=": "not-equal"}
_LIMITS = {"<=": "limit", ">=": "minimum"}
"""How a named limit is told; one that may not even be reached is told as any other figure."""
_HOURS_ALIKE = 48
"""What lies further apart is never written alike: a day is the coarsest unit."""
_ABOUT_ROWS = ("no-such-row", "such-a-row", "not-every-row", "every-row", "includes", "includes-not")
"""What opens up a worked-out fact: the rows it rests on."""

ALSO, AND, WITH = "; also ", "; and ", "; "
"""What stands between two reasons: each is enough by itself; only all of them together are; for the rest."""

Slots = Mapping[str, pl.Series | str]


@dataclass(frozen=True)
class Reason:
    """Something that made an expression false, on the rows `where` it did.

    `arguments` are values as they are, `text` words them; see `reason_templates`.
    """

    template: str
    where: pl.Series
    arguments: Mapping[str, pl.Series | str]
    text: Callable[[], pl.Series] = field(repr=False)
    link: str = ALSO

    def on(self, rows: pl.Series) -> Reason:
        """The same, on those of its rows that are also these."""
        return replace(self, where=self.where & rows)


def reasons(explained: ExplanationContext, who: Typed | None = None) -> list[Reason]:
    """Why the expression is false on these rows of a table, as templates with their arguments.

    Where that is no more than a yes or no, what of `who` makes it matter is said as well.
    """
    found = list(_Finder(explained).found(explained.about, True))
    if who is not None and found and all(reason.template == "flag" for reason in found):
        found += _in_scope(explained, who, found)
    return found


def _in_scope(explained: ExplanationContext, who: Typed, found: list[Reason]) -> list[Reason]:
    said = [clause(member) for member in parts_of(who) if is_telling(member)]
    if not said:
        return []
    everywhere = pl.repeat(True, len(found[0].where), eager=True)
    words = explained.same_text(" and ".join(said))
    arguments = {"about": who.text}
    return [Reason("in-scope", everywhere, arguments, lambda: filled("in-scope", {"found": words}), WITH)]


def because(found: list[Reason], explained: ExplanationContext) -> pl.Series:
    """The reasons as text; one for each row."""
    nothing = f"not the case: {clause(explained.about)}"
    if not found:
        return explained.same_text(nothing).alias("because")
    texts = [only_where(reason.where, reason.text()) for reason in found]
    if len(texts) > _FEW:
        told = _joined_once(texts)
    else:
        linked = [reason.link + text for reason, text in zip(found, _told_once(texts), strict=True)]
        told = joined(linked, "").str.replace(f"^({ALSO}|{AND})", "")
    return told.fill_null(nothing).alias("because")


@dataclass(frozen=True)
class _Finder:
    """Finds reasons on the rows of an explanation."""

    explained: ExplanationContext

    def found(self, node: Typed, wanted: bool) -> Iterator[Reason]:
        """Why the value is known and not `wanted`, on the rows where that is so."""
        broken = (self.explained.value(node) == (not wanted)).fill_null(False)
        if broken.any():
            for reason in self._of(node, wanted, broken):
                yield reason.on(broken)

    def _of(self, node: Typed, wanted: bool, broken: pl.Series) -> Iterator[Reason]:
        match node:
            case typed.Not():
                yield from self.found(node.operand, not wanted)
            case typed.Term():
                yield from self.found(node.body, wanted)
            case typed.OfOwner():
                yield from _Finder(self.explained.of_owner(node)).found(node.body, wanted)
            case typed.BoolOp():
                together = (node.word == "or") is wanted
                members = _without_repetition(node.members) if together else node.members
                for number, member in enumerate(members):
                    for place, reason in enumerate(self.found(member, wanted)):
                        linked = together and number and not place
                        yield replace(reason, link=AND) if linked else reason
            case typed.Call(function="surely"):
                yield from self.found(node.arguments[0], wanted)
            case typed.Compare():
                yield self._compared(node, wanted, broken)
            case typed.Within():
                template = "none-of" if node.negated is wanted else "one-of"
                raw = ", ".join(map(str, node.choices.values))
                yield self._told(template, node.operand, broken, words_of(node.choices), raw)
            case typed.Includes():
                words = words_of(node.wanted, "and" if node.mode == "all" else "or")
                template = "includes" if wanted else "includes-not"
                yield self._told(template, node.operand, broken, words, node.wanted.text)
            case typed.Pattern():
                template = "matches" if wanted else "matches-not"
                yield self._told(template, node.operand, broken, f"'{node.pattern}'", node.pattern)
            case typed.Known():
                template = "on-record" if node.negated is wanted else "not-on-record"
                yield self._told(template, node.operand, broken)
            case typed.RowQuery():
                yield self._asked(QueriedRows(self.explained, node), wanted, broken)
            case typed.Unshared():
                shared = shared_with(self.explained, node)
                yield self._reason("shared", broken, node, lambda: {"found": shared})
            case typed.Derived():
                yield self._opened(node, wanted, broken)
            case typed.Fact():
                yield self._flag(node, node.column, broken)
            case _:
                yield self._told("as-written", node, broken)

    def _reason(
        self,
        template: str,
        broken: pl.Series,
        about: Typed,
        slots: Callable[[], Slots],
        **arguments: pl.Series | str,
    ) -> Reason:
        told = {"about": f"{self.explained.prefix}{about.text}", **arguments}
        return Reason(template, broken, told, lambda: filled(template, slots()))

    def _told(
        self, template: str, operand: Typed, broken: pl.Series, required: str = "", written: str = ""
    ) -> Reason:
        """A reason that is the operand's value, and what is required of it, in words and as written."""
        values = SpokenValues(self.explained)
        arguments = {"required": written} if written else {}
        return self._reason(
            template,
            broken,
            operand,
            lambda: {"found": values.said(operand), "required": required},
            found=self.explained.value(operand),
            **arguments,
        )

    def _flag(self, node: Typed, column: Column, broken: pl.Series) -> Reason:
        """A flag, with the facts that say why it is as it is."""

        def words() -> Slots:
            told = SpokenValues(self.explained).said(node)
            known = [text for text in map(self._beside, column.beside) if text is not None]
            if not known:
                return {"found": told}
            with_them = pl.DataFrame({"told": told, "beside": joined(known, ", ")})
            both = pl.coalesce(pl.format("{} ({})", "told", "beside"), "told")
            return {"found": with_them.select(both.alias("=")).to_series()}

        return self._reason("flag", broken, node, words, found=self.explained.value(node))

    def _beside(self, name: str) -> pl.Series | None:
        table = TABLES[self.explained.table]
        column = table.column(name)
        if column is None or name not in self.explained.context.frames[table.name].columns:
            return None
        fact = typed.Fact(typed.ValueType(column.kind, column.words), name, table.name, column)
        values = SpokenValues(replace(self.explained, about=fact, prefix="", values={}))
        known = values.explained.value(fact).is_not_null()
        return only_where(known, values.said(fact))

    def _opened(self, node: typed.Derived, wanted: bool, broken: pl.Series) -> Reason:
        """A fact that is worked out, with the rows that it rests on."""
        plain = self._flag(node, node.fact.column, broken)
        rests_on = [reason for reason in self.found(node.body, wanted) if reason.template in _ABOUT_ROWS]
        # Of what would make it true, the first thing that is missing says enough.
        rests_on = rests_on[:1] if wanted else rests_on
        if not rests_on or node.type.kind is not Kind.FLAG:
            return plain

        def text() -> pl.Series:
            told = [
                plain.text(),
                joined(_told_once([only_where(each.where, each.text()) for each in rests_on]), "; "),
            ]
            return joined(told, ": ")

        return replace(plain, template="flag-opened", text=text)

    def _compared(self, node: typed.Compare, wanted: bool, broken: pl.Series) -> Reason:
        left, operator, right = node.left, node.operator, node.right
        if isinstance(left, typed.Const | typed.PerPopulation) and not isinstance(right, typed.Const):
            left, operator, right = right, MIRRORED[operator], left
        if not wanted:
            operator = OPPOSITE[operator]
        limit = typed.limit_of(right)
        arguments: dict[str, pl.Series | str] = {"found": self.explained.value(left), "limit": limit}
        zero = isinstance(right, typed.Const) and right.value == 0 and not isinstance(right.value, timedelta)
        values = SpokenValues(self.explained)
        short = _in_time(left, operator, right) or (_of_zero(left, operator) if zero else "")
        if short:
            return self._reason(short, broken, left, lambda: {"found": values.said(left)}, **arguments)
        arguments["required"] = self.explained.value(right)
        figure = isinstance(right, typed.Const | typed.PerPopulation)
        template = _template(left, operator, limit, figure)
        return self._reason(
            template, broken, left, lambda: self._figures_apart(left, right, template), **arguments
        )

    def _figures_apart(self, left: Typed, right: Typed, template: str) -> Slots:
        """What is compared, in the least detail in which a figure is not written as its limit is."""
        told = {"found": SpokenValues(self.explained).said(left), "required": self._right(right, 0, template)}
        places = self._alike(left, right)
        if not len(places):
            return told
        # Few are that close: only these are written again, in every detail.
        close = _Finder(replace(self.explained, rows=self.explained.rows.gather(places), values={}))
        closely = DETAILS[1:]
        found = [SpokenValues(close.explained, detail).said(left) for detail in closely]
        required = [close._right(right, detail, template) for detail in closely]
        apart = [close._written(left, detail) != close._written(right, detail) for detail in closely[:-1]]
        for name, choices in (("found", found), ("required", required)):
            told[name] = told[name].scatter(places, _first_where(apart, choices))
        return told

    def _right(self, right: Typed, detail: int, template: str) -> pl.Series:
        if template.startswith("fact-"):
            return SpokenValues(self.explained, detail).said(right)
        if isinstance(right, typed.Const) and not (detail and right.type.kind is Kind.INSTANT):
            word = right.type.kind in (Kind.WORD, Kind.WORDS, Kind.TEXT)
            text = words_of(right) if word else constant_text(right, self.explained.context.clock)
            return self.explained.same_text(text)
        return SpokenValues(self.explained, detail).value(right)

    def _written(self, node: Typed, detail: int) -> pl.Series:
        return wording.values(
            self.explained.value(node), node.type.kind, self.explained.context.clock, detail
        )

    def _alike(self, left: Typed, right: Typed) -> pl.Series:
        """The places of those rows on which a figure would read like its limit, written in no detail."""
        if left.type.kind not in (Kind.INSTANT, Kind.SPAN):
            return pl.Series(dtype=pl.UInt32)
        # Only what is less than two days apart can read alike: most is not, and is written once.
        apart = (self.explained.value(left) - self.explained.value(right)).dt.total_hours().abs()
        if not (apart < _HOURS_ALIKE).any():
            return pl.Series(dtype=pl.UInt32)
        return (self._written(left, 0) == self._written(right, 0)).arg_true()

    def _asked(self, rows: QueriedRows, wanted: bool, broken: pl.Series) -> Reason:
        """Why the answer is not the wanted one: which rows."""
        query, table = rows.query, TABLES[rows.query.table]
        every, called, after = query.question == "every", rows.thing(), ""
        rest = clause(query.condition) if query.condition is not None else ""
        if every and wanted:
            template, truth, before = "not-every-row", False, ""
            after = f"; required of every {noun(table)}: {rest}"
        elif every:
            template, truth, before = "every-row", None, f"every {noun(table)} {rest}: "
        elif (query.question == "some") is wanted:
            template, truth, before = "no-such-row", None, f"no {called}; {table.listed_as}: "
        else:
            template, truth, before = "such-a-row", True, f"{called}: "
        nothing = f"no {called if template == 'such-a-row' else noun(table)} on record"
        named = rows.named(truth)

        def words() -> Slots:
            said = listed(pl.lit(before)) + pl.lit(after)
            # The names may say what is asked about: `text message: text message`, `API key: API key k1`.
            twice = said.str.starts_with(f"{called}: {called}")
            said = pl.when(twice).then(said.str.strip_prefix(f"{called}: ")).otherwise(said)
            return {"found": named.select(said.fill_null(nothing).alias("=")).to_series()}

        return self._reason(template, broken, query, words, rows=named["names"])


def _of_zero(left: Typed, operator: str) -> str:
    """How it is told that something has to be none, or may not be none; empty if neither."""
    listing = isinstance(left, typed.Call) and left.arguments[0].type.kind is Kind.WORDS
    if operator in ("=", "<="):
        return "something-listed" if listing else "none-allowed"
    return ("nothing-listed" if listing else "some-required") if operator == ">" else ""


def _template(left: Typed, operator: str, limit: str, figure: bool) -> str:
    """How a comparison that failed is told."""
    dated = left.type.kind is Kind.INSTANT
    name = {**(_DATES if dated else _FIGURES), **_EITHER}[operator]
    if not figure:
        return f"fact-{name}"
    if limit and not dated:
        name = _LIMITS.get(operator, name)
    return "fewer-than" if name == "less-than" and left.type.kind is Kind.COUNT else name


def _first_where(apart: list[pl.Series], choices: list[pl.Series]) -> pl.Series:
    """Of each row the first choice that is apart; the last one where none is."""
    frame = pl.DataFrame(
        [choice.alias(f"choice {n}") for n, choice in enumerate(choices)]
        + [each.alias(f"apart {n}") for n, each in enumerate(apart)]
    )
    chosen = pl.col(f"choice {len(choices) - 1}")
    for number in reversed(range(len(apart))):
        chosen = pl.when(f"apart {number}").then(f"choice {number}").otherwise(chosen)
    return frame.select(chosen.alias("=")).to_series()


def _without_repetition(members: tuple[Typed, ...]) -> tuple[Typed, ...]:
    """Without `ends is unknown` where it stands beside a comparison of `ends`, which says its value."""
    compared = {part for member in members if isinstance(member, typed.Compare) for part in member.walk()}
    kept = [m for m in members if not (isinstance(m, typed.Known) and m.operand in compared)]
    return tuple(kept)


def _in_time(left: Typed, operator: str, right: Typed) -> str:
    """How it is told that something has to lie ahead, or behind: `until(ends) > 0s`; empty for all else."""
    if not isinstance(left, typed.Call) or not isinstance(right, typed.Const) or right.value != timedelta():
        return ""
    falls = FUNCTIONS[left.function].in_time is InTime.FALLS
    if not falls and FUNCTIONS[left.function].in_time is not InTime.RISES:
        return ""
    ahead = operator in (">", ">=")
    return "" if operator in ("=", "!=") else "to-come" if ahead is falls else "to-be-past"


_FEW = 24
"""Up to so many reasons are held against each other; of more, only the same ones are told once."""


def _joined_once(texts: list[pl.Series]) -> pl.Series:
    """The different reasons of each row, one after the other: many of them, in time that grows as they do."""
    frame = pl.DataFrame([text.alias(str(number)) for number, text in enumerate(texts)])
    told = pl.concat_list(pl.all()).list.drop_nulls().list.unique(maintain_order=True)
    few = told.list.head(_FEW).list.join(ALSO)
    more = pl.format("{}; also {} more", few, told.list.len() - _FEW)
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
