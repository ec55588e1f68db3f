"""The functions of the language in one table: all that the checker, the compiler, time and docs know of them.

Adding a function is adding a row here. The tests' slow reference has to know it as well, so that the two
can be held against each other.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from enum import Enum
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.facts.model import Kind
from keymallet.core.language.typed import COUNT, FLAG, SPAN, TEXT, ValueType


class InTime(Enum):
    """How the value of a function changes as time goes on, while its arguments stay as they are."""

    STILL = "not at all"  # length(groups)
    RISES = "it grows as fast as time goes on"  # age(issued)
    FALLS = "it shrinks as fast as time goes on"  # until(expires)
    FOLLOWS = "as one of its arguments does"  # least(expires, account.ends)
    TICKS = "as the estate's clock shows another hour"  # hour-of(at)

    @property
    def moves_by_itself(self) -> bool:
        """Whether it changes although no argument does."""
        return self in (InTime.RISES, InTime.FALLS)

    @property
    def slope(self) -> int:
        """By how many microseconds its value changes in one, if it moves by itself."""
        return {InTime.RISES: 1, InTime.FALLS: -1}.get(self, 0)


@dataclass(frozen=True)
class Operands:
    """What a function is worked out from: its lowered arguments with their kinds, the instant, the clock.

    `nones` says of each argument whether it is known to be none, where the function asks for that.
    """

    values: tuple[pl.Expr, ...]
    kinds: tuple[Kind, ...]
    now: pl.Expr
    clock: ZoneInfo
    nones: tuple[pl.Expr, ...] = ()

    @property
    def value(self) -> pl.Expr:
        """The first argument."""
        return self.values[0]

    @property
    def local(self) -> pl.Expr:
        """The first argument, an instant, as the estate's clock shows it."""
        return self.value.dt.convert_time_zone(self.clock.key)


@dataclass(frozen=True, slots=True)
class Function:
    """One function of the language.

    It takes one argument of the kinds in `takes`; or, if `many`, two and more of one kind, and gives one of
    them; with `passes_over_none`, one that is known to be none is left out. `lower` makes the Polars
    expression; an unknown argument has to give an unknown value. `example` is a condition on rows of the
    table `example_on` that uses it. An `internal` function is there for definitions of facts alone.
    """

    name: str
    takes: tuple[Kind, ...]
    gives: ValueType
    meaning: str
    lower: Callable[[Operands], pl.Expr]
    example: str
    example_on: str = "account"
    in_time: InTime = InTime.STILL
    many: bool = False
    passes_over_none: bool = False
    internal: bool = False


WEEKDAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")
_ORDERED = tuple(kind for kind in Kind if kind.is_ordered)


def _length(of: Operands) -> pl.Expr:
    if of.kinds[0] is Kind.WORDS:
        return of.value.list.len().cast(pl.Int64)
    return of.value.cast(pl.String).str.len_chars().cast(pl.Int64)


def _extreme(best: Callable[[tuple[pl.Expr, ...]], pl.Expr]) -> Callable[[Operands], pl.Expr]:
    def lower(of: Operands) -> pl.Expr:
        # Of several of which one is not known, none is known to be the least. One that is none is no rival.
        nones = of.nones or (pl.lit(False),) * len(of.values)
        told = (value.is_not_null() | none for value, none in zip(of.values, nones, strict=True))
        return pl.when(pl.all_horizontal(told)).then(best(of.values))

    return lower


def _weekday(of: Operands) -> pl.Expr:
    days = dict(enumerate(WEEKDAYS, start=1))
    return of.local.dt.weekday().replace_strict(days, return_dtype=pl.Enum(WEEKDAYS))


FUNCTIONS: dict[str, Function] = {
    function.name: function
    for function in (
        Function(
            "age",
            (Kind.INSTANT,),
            SPAN,
            "how long ago it was, at the instant judged",
            lambda of: of.now - of.value,
            "age(password-changed) <= 180d",
            in_time=InTime.RISES,
        ),
        Function(
            "until",
            (Kind.INSTANT,),
            SPAN,
            "how long it is still to come",
            lambda of: of.value - of.now,
            "until(expires) > 14d",
            example_on="key",
            in_time=InTime.FALLS,
        ),
        Function(
            "length",
            (Kind.TEXT, Kind.WORDS),
            COUNT,
            "characters of a text, members of a list",
            _length,
            "length(reason) >= 15",
            example_on="elevation",
        ),
        Function(
            "lower",
            (Kind.TEXT,),
            TEXT,
            "the text in small letters",
            lambda of: of.value.cast(pl.String).str.to_lowercase(),
            "lower(title) like '*manager*'",
        ),
        Function(
            "least",
            _ORDERED,
            COUNT,
            "the smallest or earliest of several that there are; not known if one of them is not",
            _extreme(lambda values: pl.min_horizontal(values)),
            "least(ends, person.leaves) > at",
            many=True,
            passes_over_none=True,
            in_time=InTime.FOLLOWS,
        ),
        Function(
            "greatest",
            _ORDERED,
            COUNT,
            "the largest or latest of several that there are; not known if one of them is not",
            _extreme(lambda values: pl.max_horizontal(values)),
            "age(greatest(created, last-sign-in)) <= 45d",
            many=True,
            passes_over_none=True,
            in_time=InTime.FOLLOWS,
        ),
        Function(
            "either",
            tuple(kind for kind in Kind if kind is not Kind.WORDS),
            COUNT,
            "the first of several that is known; not known if none of them is",
            lambda of: pl.coalesce(of.values),
            "age(either(last-sign-in, created)) <= 45d",
            many=True,
            in_time=InTime.FOLLOWS,
        ),
        Function(
            "hour-of",
            (Kind.INSTANT,),
            COUNT,
            "the hour in the estate's clock, 0 to 23",
            lambda of: of.local.dt.hour().cast(pl.Int64),
            "hour-of(starts) >= 6",
            example_on="elevation",
            in_time=InTime.TICKS,
        ),
        Function(
            "weekday-of",
            (Kind.INSTANT,),
            ValueType(Kind.WORD, WEEKDAYS),
            "the day of the week in the estate's clock: monday to sunday",
            _weekday,
            "weekday-of(at) not in [saturday, sunday]",
            example_on="sign-in",
            in_time=InTime.TICKS,
        ),
        Function(
            "surely",
            (Kind.FLAG,),
            FLAG,
            "true only where it is known to be true",
            lambda of: of.value.fill_null(False),
            "surely(enabled)",
            internal=True,
        ),
    )
}
