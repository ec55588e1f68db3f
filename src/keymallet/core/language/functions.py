"""The functions of the language in one table, which the checker, the compiler and the docs read."""

from __future__ import annotations

from dataclasses import dataclass

from keymallet.core.facts.model import Kind
from keymallet.core.language.typed import COUNT, FLAG, SPAN, TEXT, ValueType


@dataclass(frozen=True, slots=True)
class Function:
    """One function: what it takes, what it gives, and what that means.

    It takes one argument; or, if `many`, two and more of one kind, and gives one of them.
    """

    name: str
    takes: tuple[Kind, ...]
    gives: ValueType
    meaning: str
    internal: bool = False
    many: bool = False


WEEKDAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")
_ORDERED = tuple(kind for kind in Kind if kind.is_ordered)

FUNCTIONS: dict[str, Function] = {
    function.name: function
    for function in (
        Function("age", (Kind.INSTANT,), SPAN, "how long ago it was, at the instant judged"),
        Function("until", (Kind.INSTANT,), SPAN, "how long it is still to come"),
        Function("length", (Kind.TEXT, Kind.WORDS), COUNT, "characters of a text, members of a list"),
        Function("lower", (Kind.TEXT,), TEXT, "the text in small letters"),
        Function("least", _ORDERED, COUNT, "the smallest or earliest of several", many=True),
        Function("greatest", _ORDERED, COUNT, "the largest or latest of several", many=True),
        Function("hour-of", (Kind.INSTANT,), COUNT, "the hour in the estate's clock, 0 to 23"),
        Function(
            "weekday-of",
            (Kind.INSTANT,),
            ValueType(Kind.WORD, WEEKDAYS),
            "the day of the week in the estate's clock: monday to sunday",
        ),
        Function("surely", (Kind.FLAG,), FLAG, "true only where it is known to be true", internal=True),
    )
}
