"""Who may unlock an account that is locked: what an estate says, by whom it is and by what locked it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from keymallet.core.evaluating.context import EvaluationContext
from keymallet.core.facts.declaration import ACCOUNT
from keymallet.core.language.typed import Typed
from keymallet.core.rulebook.model import Rulebook
from keymallet.core.rulebook.question import read_condition, read_value


@dataclass(frozen=True, slots=True)
class Unlock:
    """One line of it: `who` is a condition on accounts (empty: all), `causes` those of the lock (none: all).

    `by` may unlock such an account, and `say` is what to tell or to ask before that. `place` names it in
    messages.
    """

    who: str
    causes: tuple[str, ...]
    by: str
    say: str
    place: str


@dataclass(frozen=True, slots=True)
class Unlocker:
    """Who may unlock one account; `if_` is on what condition, where that cannot be told."""

    by: str
    say: str
    if_: str = ""


def read_conditions(unlocks: Sequence[Unlock], book: Rulebook) -> list[Typed | None]:
    """The conditions, with the rulebook's terms and limits at hand. Raises KeymalletError for a fault."""
    return [read_condition(each.who, ACCOUNT, book, each.place) if each.who else None for each in unlocks]


def unlockers(
    context: EvaluationContext,
    unlocks: Sequence[Unlock],
    conditions: Sequence[Typed | None],
    book: Rulebook,
) -> list[Unlocker] | None:
    """Who may unlock the one account that `context` is about; None if it is not locked, empty if nobody.

    The first line that fits counts. One of which it cannot be told comes before it, with its condition.
    `conditions` are those of `unlocks`, as `read_conditions` gives them.
    """
    locked, cause = context.work_out(
        ACCOUNT.name, [read_value(name, ACCOUNT, book, name) for name in ("locked", "lock-cause")]
    )
    return list(_fitting(context, unlocks, conditions, cause[0])) if locked[0] is True else None


def _fitting(
    context: EvaluationContext,
    unlocks: Sequence[Unlock],
    conditions: Sequence[Typed | None],
    cause: str | None,
) -> Iterator[Unlocker]:
    for each, condition in zip(unlocks, conditions, strict=True):
        by_cause = not each.causes or (None if cause is None else cause in each.causes)
        by_whom = True if condition is None else context.work_out(ACCOUNT.name, [condition])[0][0]
        if by_cause and by_whom:
            yield Unlocker(each.by, each.say)
            return
        if by_cause is not False and by_whom is not False:
            open_ = [] if by_whom else [each.who]
            open_ += [] if by_cause else [f"locked because of {' or '.join(each.causes)}"]
            yield Unlocker(each.by, each.say, " and ".join(open_))
