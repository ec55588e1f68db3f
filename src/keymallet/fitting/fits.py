"""How well the values of a column suit a fact, and what a map has to say so that they are read as it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import date, timedelta
from typing import Any

from keymallet.core.facts.model import Column, Kind, Table
from keymallet.fitting.dates import Dates, find_dates
from keymallet.fitting.shapes import Shape
from keymallet.fitting.vocabulary import Named, plain, squeezed, unit_named, vocabulary, word_for
from keymallet.sources.export.lengths import parse_length
from keymallet.sources.export.map_shapes import FALSE_WORDS, TRUE_WORDS

_ENOUGH = 0.6
"""The least share of a column's values that has to be understood for it to be taken as the fact."""
_PLAINLY = Named(1.0)
_MARKS = frozenset(squeezed(mark) for mark in "x ✓ ✔ ✅ ☑ ● ■ ★ 〇 ○ ◯".split())
"""What people put where something holds, and nothing where it does not."""
_EMPTY = 0.7
"""How well a column suits in which nothing stands: there is only its header to go by."""
_THROUGH = {("account", "ends"), ("person", "leaves"), ("grant", "ends"), ("account", "locked-until")}
"""Facts whose plain date is a last day, on which it still holds; others are the day on which it ends."""


@dataclass
class Fit:
    """`share`: from 0 to 1. `options` go into the map; `left` are values that would not be understood.

    `doubtful`: read so by what people usually mean, never to be called sure.
    """

    share: float
    options: dict[str, Any] = field(default_factory=dict)
    left: list[str] = field(default_factory=list)
    remark: str = ""
    dates: Dates | None = None
    doubtful: bool = False


@dataclass(frozen=True)
class Context:
    """What is known besides the column: the day it is, and how other columns of the file order dates."""

    today: date
    order: str = ""


def fit_values(shape: Shape, table: Table, fact: Column, context: Context, named: Named = _PLAINLY) -> Fit:
    """How well this column can be read as this fact, which its header names so."""
    if not shape.total:
        return Fit(_EMPTY, remark="nothing stands there")
    if named.opposite and fact.kind is not Kind.FLAG:
        return Fit(0.0)
    if fact.kind is Kind.FLAG:
        return _flag(shape, fact, named.opposite)
    if named.yes_no and not shape.left_by({*shape.true, *shape.false}):
        yes, no = named.yes_no
        words = dict.fromkeys(shape.true, yes) | dict.fromkeys(shape.false, no)
        return Fit(1.0, {"words": words}, remark=f"a yes is taken as {yes}, a no as {no}")
    return _FITS[fact.kind](shape, table, fact, context)


def _instant(shape: Shape, table: Table, fact: Column, context: Context) -> Fit:
    dates = find_dates(shape.told, context.order, latest=context.today if fact.past else None)
    if dates.share < _ENOUGH:
        return Fit(0.0, remark="these are no dates that can be read")
    options: dict[str, Any] = {"formats": dates.formats or ["epoch-seconds"]}
    remark = ""
    if "spreadsheet-days" in dates.formats:
        shown = next(value for value in shape.told if value[:5].isdigit())
        day = date(1899, 12, 30) + timedelta(days=int(float(shown.replace(",", "."))))
        remark = f"numbers of a spreadsheet: {shown} is {day:%Y-%m-%d}"
    in_header = {"utc", "gmt", "zulu"} & set(plain(shape.column.header).split())
    if dates.zone or (dates.zoneless and in_header):
        options["zone"] = "UTC"
    if fact.closes and dates.plain_days:
        options["plain"] = "through" if (table.name, fact.name) in _THROUGH else "until"
    return Fit(dates.share, options, dates.unread, remark, dates)


def _flag(shape: Shape, fact: Column, opposite: bool) -> Fit:
    true, false = set(shape.true), set(shape.false)
    words = vocabulary().words
    states = words["account.enabled"]
    locked = words["account.locked"]
    for value in shape.column.values:
        word = squeezed(value)
        if fact.name == "enabled":
            true |= {value} if states.get(word) == "true" or word in locked else set()
            false |= {value} if states.get(word) == "false" else set()
        elif fact.name == "locked":
            true |= {value} if word in locked else set()
            false |= {value} if word in states and word not in locked else set()
    false -= true if fact.name != "enabled" else set()
    true -= false
    known = shape.share(true | false)
    if known < _ENOUGH:
        return Fit(0.0, remark="these are no words for yes and no")
    options: dict[str, Any] = {}
    if true and not false and shape.column.empty and {squeezed(value) for value in true} <= _MARKS:
        # A column of crosses: where there is none, it does not hold.
        crosses = _in_order(shape, true)
        options |= {"true": [], "false": crosses} if opposite else {"true": crosses, "false": []}
        return Fit(known, {**options, "empty": opposite}, remark="empty is taken as no cross", doubtful=True)
    if opposite:
        true, false = false, true
    folded = {value.casefold() for value in true | false}
    if opposite or not folded <= {*TRUE_WORDS, *FALSE_WORDS}:
        options = {"true": _in_order(shape, true), "false": _in_order(shape, false)}
    left = [value for value in shape.told if value not in true | false]
    return Fit(known, options, left, "the header says the opposite" if opposite else "")


def _in_order(shape: Shape, values: set[str]) -> list[str]:
    return [value for value in shape.column.values if value in values]


def _word(shape: Shape, table: Table, fact: Column, context: Context) -> Fit:
    meant = {value: word_for(table.name, fact, value) for value in shape.told}
    known = {value for value, word in meant.items() if word}
    share = shape.share(known)
    if share < _ENOUGH:
        return Fit(0.0, remark=f"these are no words for {fact.name}")
    words = {value: word for value, word in meant.items() if word and value != word}
    options: dict[str, Any] = {"words": words} if words else {}
    return Fit(share, options, [value for value in shape.told if value not in known])


def _words(shape: Shape, table: Table, fact: Column, context: Context) -> Fit:
    if shape.dates > 0.5 or shape.mails > 0.5:
        return Fit(0.0)
    # In a pattern of accounts a slash stands between source and name.
    if shape.list_mark == "/" and fact.name == "accounts":
        return Fit(1.0)
    mark = shape.list_mark
    options: dict[str, Any] = {"separator": mark} if mark else {}
    if not fact.words:
        return Fit(1.0 if mark or shape.column.is_list else 0.8, options)
    nothing = {*shape.none, *shape.unknown}
    members = {word: times for word, times in shape.column.members(mark).items() if word not in nothing}
    meant = {member: word_for(table.name, fact, member) for member in members}
    known = sum(times for member, times in members.items() if meant[member])
    share = known / (sum(members.values()) or 1)
    if words := {member: word for member, word in meant.items() if word and word != member}:
        options["words"] = words
    return Fit(
        share if share >= _ENOUGH else 0.0, options, [written for written in members if not meant[written]]
    )


def _count(shape: Shape, table: Table, fact: Column, context: Context) -> Fit:
    left = [value for value in shape.told if not (value.isascii() and value.isdigit())]
    return Fit(shape.numbers if shape.numbers >= _ENOUGH else 0.0, left=left)


def _span(shape: Shape, table: Table, fact: Column, context: Context) -> Fit:
    known = {value for value in shape.told if parse_length(value) is not None}
    unit = unit_named(shape.column.header)
    numbers = {value for value in shape.told if value.isascii() and value.isdigit()}
    if numbers and not unit and numbers != {"0"}:
        return Fit(0.0, remark="these are numbers, and the header names no unit of time")
    share = shape.share(known | numbers)
    left = [value for value in shape.told if value not in known | numbers]
    return Fit(share if share >= _ENOUGH else 0.0, {"unit": unit} if numbers and unit else {}, left)


def _text(shape: Shape, table: Table, fact: Column, context: Context) -> Fit:
    fits = _SHAPES.get((table.name, fact.name)) or _SHAPES.get(("", fact.name))
    share = fits(shape) if fits else 1.0
    by_mail = fact.name == "account" and shape.mails > 0.9
    if shape.dates > 0.5 or shape.share({*shape.true, *shape.false}) > 0.9 > shape.distinct:
        share = min(share, 0.2)
    if shape.mails > 0.5 and fact.name not in ("mail", "name", "account", "manager", "owner", "assigned-by"):
        share = min(share, 0.3)
    remark = 'mail addresses: by = "mail", if people sign in with something else'
    return Fit(share, remark=remark if by_mail else "")


def _unique(shape: Shape) -> float:
    """A key: no value twice, none missing."""
    filled = shape.rows_told / (shape.column.rows or 1)
    return min(shape.distinct, filled) if shape.distinct > 0.9 and filled > 0.9 else 0.3


def _login(shape: Shape) -> float:
    # Numbers may be logins; beside a column of words they rather are not.
    return _unique(shape) * (1.0 - 0.5 * shape.several_words) * (0.9 if shape.numbers > 0.9 else 1.0)


def _full_name(shape: Shape) -> float:
    return 1.0 if shape.several_words > 0.3 else 0.75


def _one_word(shape: Shape) -> float:
    return 1.0 - 0.6 * shape.several_words


_SHAPES: dict[tuple[str, str], Callable[[Shape], float]] = {
    ("", "mail"): lambda shape: shape.mails if shape.mails > 0.5 else 0.1,
    ("account", "name"): _login,
    ("account", "stable-id"): _unique,
    ("person", "person"): _login,
    ("", "account"): _one_word,
    ("account", "person"): _one_word,
    ("account", "display"): _full_name,
    ("person", "name"): _full_name,
    ("key", "key"): lambda shape: 1.0 if shape.distinct > 0.9 else 0.5,
    ("elevation", "elevation"): _unique,
}
"""What is expected of texts besides being text."""

_FITS: dict[Kind, Callable[[Shape, Table, Column, Context], Fit]] = {
    Kind.INSTANT: _instant,
    Kind.WORD: _word,
    Kind.WORDS: _words,
    Kind.COUNT: _count,
    Kind.SPAN: _span,
    Kind.TEXT: _text,
}
