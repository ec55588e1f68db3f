"""Expressions of the rule language in plain words: `is switched on`, `password set in the last 90 d`.

What a rule says of a row is a clause: `clause`. What it asks about rows of another table is a thing with
what is said of it: `thing`, as in `active phishing-resistant factor`. Both are made of the phrases of the
facts. What has no words of its own is said as it is written.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta
from functools import cache

from keymallet.core.explaining.wording import MIRRORED, OPPOSITE, constant_text
from keymallet.core.facts.declaration import TABLES
from keymallet.core.facts.model import Column, Kind, Table
from keymallet.core.facts.phrases import noun, phrase, read_word
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
_FEWER = {"<": "fewer than {}"}
DATED = {"<=": "by {}", "<": "before {}", ">=": "{} or later", ">": "after {}", "=": "{}", "!=": "not {}"}
_FLIPPED = {"and": "or", "or": "and"}
_GRANTED = ("enabled", "has-password", "on-roster", "for-people", "usable", "interactive")
_GRANTED_NOT = ("hollow-reason", "by-own-right", "password-empty")
"""Flags that a reader of a finding takes to be so, or not to be so."""


@cache
def clause(node: Typed, wanted: bool = True) -> str:
    """What is said of a row by an expression that is true of it, or not."""
    match node:
        case typed.Not():
            return clause(node.operand, not wanted)
        case typed.Term():
            return clause(node.body, wanted)
        case typed.OfOwner():
            whose = "the setting in force" if node.to else f"its {noun(TABLES[node.owner])}"
            return f"{whose}{':' if node.to else ''} {clause(node.body, wanted)}"
        case typed.BoolOp():
            word = node.word if wanted else _FLIPPED[node.word]
            return f" {word} ".join(_member(part, word, wanted) for part in node.members)
        case typed.Fact() | typed.Derived():
            said = phrase(_column(node))
            return said.first if wanted else said.second
        case typed.Compare():
            return _compared(node, wanted)
        case typed.Within() if _spoken_column(node.operand):
            return _among(node, wanted)
        case typed.Within(operand=typed.RowQuery(question="count") as query):
            number = words_of(node.choices)
            number = f"other than {number}" if node.negated is wanted else number
            return f"has {number} {thing(TABLES[query.table], query.condition, True)}"
        case typed.Within(operand=typed.Call(function="weekday-of") as called):
            words = words_of(node.choices)
            return f"{event(called.arguments[0])} {'not ' if node.negated is wanted else ''}on {words}"
        case typed.Includes() if _spoken_column(node.operand):
            said = phrase(_column(node.operand))
            words = words_of(node.wanted, "and" if node.mode == "all" else "or")
            if not wanted:
                words = f"neither {words.replace(' or ', ' nor ')}" if node.mode == "any" else f"not {words}"
            return said.first.format(words)
        case typed.Pattern() if _spoken_column(node.operand):
            like = f"like '{node.pattern}'"
            return phrase(_column(node.operand)).first.format(like if wanted else f"not {like}")
        case typed.Known():
            return _known(node, wanted)
        case typed.RowQuery() if node.question in ("some", "no", "every"):
            return _asked(node, wanted)
        case typed.Call(function="surely"):
            return clause(node.arguments[0], wanted)
        case _:
            return node.text if wanted else f"not ({node.text})"


@cache
def thing(table: Table, condition: Typed | None, several: bool = False) -> str:
    """What a question about rows is about: `active phishing-resistant factor`, `API keys used before`."""
    called = noun(table, several)
    states: list[str] = []
    before: list[str] = []
    after: list[str] = []
    that: list[str] = []
    for member in () if condition is None else parts_of(condition):
        column = _spoken_column(_subject(member))
        said = clause(member)
        if column is not None and column.name == "kind":
            said = said.removeprefix("kind ")
            is_one = isinstance(member, typed.Compare) and member.operator == "="
            if is_one and phrase(column).first == "{}":
                called = f"{said}s" if several and not said.endswith("s") else said
            else:
                after.append(said if said.startswith("other than") else f"of kind {said}")
        elif said.startswith("is ") and " " not in said.removeprefix("is "):
            (states if isinstance(member, typed.Compare) else before).append(said.removeprefix("is "))
        elif said.startswith("is on ") and isinstance(member, typed.Compare):
            after.append(said.removeprefix("is "))
        elif isinstance(member, typed.Fact | typed.Derived | typed.Not | typed.RowQuery | typed.OfOwner):
            that.append(said)
        elif not _may_be_unknown(member):
            after.append(said)
    behind = [" and ".join(after), f"that {' and '.join(that)}" if that else ""]
    return " ".join(filter(None, [*states, *before, called, *behind]))


def with_article(words: str) -> str:
    """`a factor`, `an active key`."""
    return f"{'an' if words[:1].lower() in 'aeio' else 'a'} {words}"


def words_of(node: Typed, link: str = "or") -> str:
    """A literal, or a list of them, as people read it; anything else as it is written."""
    match node:
        case typed.ConstList():
            return _in_words([read_word(str(value)) for value in node.values], link)
        case typed.Const() if node.type.kind in (Kind.WORD, Kind.WORDS):
            return read_word(str(node.value))
        case typed.Const() if node.type.kind is Kind.TEXT and node.value:
            return str(node.value)
        case typed.Const() if node.type.kind is Kind.INSTANT:
            # Which day an instant is depends on the estate's clock; what was written is that day.
            return f"the limit {node.limit}" if node.limit else node.text
        case typed.Const():
            return constant_text(node)
        case typed.PerPopulation():
            return f"{constant_text(node.default)} (others for some)"
        case typed.OfOwner():
            return f"{node.owner}.{node.body.text}"
        case _:
            return node.text


def _in_words(names: list[str], word: str = "or") -> str:
    """`a, b or c`."""
    return f"{', '.join(names[:-1])} {word} {names[-1]}" if len(names) > 1 else "".join(names)


def bound_words(operator: str, value: str, template: str = "{}") -> str:
    """`at most 3`; fewer of what is counted, less of what is measured."""
    words = _BOUND if template.endswith("{}") else _BOUND | _FEWER
    return words[operator].format(value)


def _member(node: Typed, word: str, wanted: bool) -> str:
    said = clause(node, wanted)
    inner = node.body if isinstance(node, typed.Term) else node
    mixed = isinstance(inner, typed.BoolOp) and (inner.word if wanted else _FLIPPED[inner.word]) != word
    return f"({said})" if mixed else said


def is_telling(node: Typed) -> bool:
    """Whether a part of `who` says something that a reader of its findings may not take for granted."""
    inner = node.operand if isinstance(node, typed.Not) else node
    inner = inner.body if isinstance(inner, typed.OfOwner | typed.Term) else inner
    column = _spoken_column(inner)
    if column is None or column.kind is not Kind.FLAG:
        return False
    return column.name not in (_GRANTED_NOT if isinstance(node, typed.Not) else _GRANTED)


def parts_of(node: Typed) -> Iterator[Typed]:
    """The parts that all have to hold, terms opened up."""
    match node:
        case typed.Term():
            yield from parts_of(node.body)
        case typed.BoolOp(word="and"):
            for member in node.members:
                yield from parts_of(member)
        case _:
            yield node


def _may_be_unknown(node: Typed) -> bool:
    """Whether it is `ends is unknown or …`: true of most rows, and clearer left out than said."""
    return isinstance(node, typed.BoolOp) and any(
        isinstance(member, typed.Known) and member.negated for member in node.members
    )


def _subject(node: Typed) -> Typed:
    match node:
        case typed.Compare():
            return node.left
        case typed.Within() | typed.Includes() | typed.Pattern():
            return node.operand
        case _:
            return node


def _column(node: Typed) -> Column:
    column = _spoken_column(node)
    assert column is not None, node.text
    return column


def _spoken_column(node: Typed) -> Column | None:
    match node:
        case typed.Fact():
            return node.column
        case typed.Derived():
            return node.fact.column
        case typed.Term():
            return _spoken_column(node.body)
        case _:
            return None


def _compared(node: typed.Compare, wanted: bool) -> str:
    left, operator, right = node.left, node.operator, node.right
    if isinstance(left, typed.Const | typed.PerPopulation):
        left, operator, right = right, MIRRORED[operator], left
    operator = operator if wanted else OPPOSITE[operator]
    value = words_of(right)
    if isinstance(left, typed.OfOwner):
        inner = typed.Compare(node.type, node.text, operator, left.body, right)
        return clause(typed.OfOwner(left.type, left.text, left.table, inner, left.to))
    if isinstance(left, typed.RowQuery) and left.question == "count":
        number = bound_words(operator, value, "{} of them")
        return f"has {number} {thing(TABLES[left.table], left.condition, value != '1')}"
    if isinstance(left, typed.Call) and FUNCTIONS[left.function].in_time.moves_by_itself:
        return _timed(left, operator, right, value)
    if isinstance(left, typed.Call) and left.function == "length" and _spoken_column(left.arguments[0]):
        return _long(_column(left.arguments[0]), operator, value)
    if isinstance(left, typed.Call) and left.function == "hour-of":
        return f"{event(left.arguments[0])} at hour {bound_words(operator, value)}"
    if isinstance(left, typed.AddSub) and is_stretch(left):
        return f"{bound_words(operator, value)} from {event(left.right)} to {event(left.left)}"
    column = _spoken_column(left)
    if column is None:
        dated = left.type.kind is Kind.INSTANT
        return f"{left.text} {DATED[operator].format(value) if dated else bound_words(operator, value)}"
    if column.kind is Kind.INSTANT:
        return f"{phrase(column).first} {DATED[operator].format(value)}"
    if column.kind is Kind.FLAG:
        return f"{column.name} {operator} {value}"
    form = phrase(column).second
    if form == "is {}" and operator == "!=":
        return f"is not {value}"
    return form.format(bound_words(operator, value, form))


def _long(column: Column, operator: str, value: str) -> str:
    """How many a list has, or how many characters a text."""
    if column.kind is not Kind.WORDS:
        return f"{column.name} of {bound_words(operator, value, '{} of them')} characters"
    if value == "0" and operator in ("=", "<="):
        return phrase(column).none
    if value == "0" and operator in (">", "!="):
        operator, value = ">=", "1"
    return f"{bound_words(operator, value, '{} of them')} in {column.name}"


def is_stretch(node: typed.AddSub) -> bool:
    """Whether it is the time from one instant to another."""
    return node.operator == "-" and node.left.type.kind is Kind.INSTANT is node.right.type.kind


def event(node: Typed) -> str:
    """What happens at an instant: `expires`, `person leaves`."""
    match node:
        case typed.OfOwner():
            return f"{node.owner} {event(node.body)}"
        case _:
            column = _spoken_column(node)
            return node.text if column is None else phrase(column).second


def _timed(left: typed.Call, operator: str, right: Typed, value: str) -> str:
    """`password set in the last 90 d`, `ends in the future`, `last used more than 45 d ago`."""
    column = _spoken_column(left.arguments[0])
    said = None if column is None else phrase(column)
    past = said.first if said else left.arguments[0].text
    ahead = said.second if said else left.arguments[0].text
    zero = isinstance(right, typed.Const) and right.value == timedelta()
    falls = FUNCTIONS[left.function].in_time is InTime.FALLS
    if zero and operator in ("<", "<=", ">", ">="):
        still_to_come = (operator in (">", ">=")) is falls
        return f"{ahead} in the future" if still_to_come else past if said else f"{past} in the past"
    if falls:
        return f"{ahead} in {bound_words(operator, value)}"
    if operator == "<=":
        return f"{past} in the last {value}"
    return f"{past} {bound_words(operator, value)} ago"


def _among(node: typed.Within, wanted: bool) -> str:
    words = words_of(node.choices)
    said = phrase(_column(node.operand)).first
    if node.negated is wanted:
        return f"is not {words}" if said == "is {}" else said.format(f"other than {words}")
    return said.format(words)


def _known(node: typed.Known, wanted: bool) -> str:
    column = _column(node.operand)
    said = phrase(column)
    if node.negated is wanted:
        return said.none
    if said.none.startswith("no ") and column.kind is not Kind.FLAG:
        return f"{said.none.removeprefix('no ').removesuffix(' on record')} on record"
    if said.none.startswith("never "):
        return f"{said.first} at some time"
    return f"{column.name} on record"


def _asked(node: typed.RowQuery, wanted: bool) -> str:
    table = TABLES[node.table]
    if node.question == "every":
        rest = "" if node.condition is None else clause(node.condition, True)
        return f"{'every' if wanted else 'not every'} {noun(table)} {rest}"
    if (node.question == "some") is wanted:
        return f"has {with_article(thing(table, node.condition))}"
    return f"has no {thing(table, node.condition)}"
