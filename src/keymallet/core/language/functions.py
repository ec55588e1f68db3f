"""The functions of the language in one table, which the checker, the compiler and the docs read."""

from __future__ import annotations

from dataclasses import dataclass

from keymallet.core.facts import Kind
from keymallet.core.language.typed import COUNT, FLAG, SPAN, TEXT, ValueType


@dataclass(frozen=True, slots=True)
class Function:
    """One function: what it takes (one argument), what it gives, and what that means."""

    name: str
    takes: tuple[Kind, ...]
    gives: ValueType
    meaning: str
    internal: bool = False


FUNCTIONS: dict[str, Function] = {
    function.name: function
    for function in (
        Function("age", (Kind.INSTANT,), SPAN, "how long ago it was, at the instant judged"),
        Function("until", (Kind.INSTANT,), SPAN, "how long it is still to come"),
        Function("length", (Kind.TEXT, Kind.WORDS), COUNT, "characters of a text, members of a list"),
        Function("lower", (Kind.TEXT,), TEXT, "the text in small letters"),
        Function("surely", (Kind.FLAG,), FLAG, "true only where it is known to be true", internal=True),
    )
}
