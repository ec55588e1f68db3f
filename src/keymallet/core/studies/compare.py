"""What changed between two rulebooks, in words: by what it means on the evidence there is, else by text."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import timedelta

import polars as pl

from keymallet.core.evaluating.context import EvaluationContext
from keymallet.core.explaining.wording import constant_text
from keymallet.core.language import typed
from keymallet.core.language.scope import Limit
from keymallet.core.language.typed import Typed
from keymallet.core.rulebook.model import Demand, Rule, Rulebook, Tally

ADDED, DROPPED, TIGHTENED, LOOSENED, WIDENED, NARROWED, OTHERWISE, SAME = (
    "added",
    "dropped",
    "tightened",
    "loosened",
    "widened",
    "narrowed",
    "otherwise",
    "same",
)
"""How something changed. What is the same is worded otherwise, but comes out alike on the evidence."""


@dataclass(frozen=True, slots=True)
class Change:
    """One thing that changed: what it is about, how, and in words from what to what."""

    about: str
    how: str
    words: str


def compare(before: Rulebook, after: Rulebook, context: EvaluationContext | None) -> Iterator[Change]:
    """Every change, rules first; with a context, conditions are compared on its evidence."""
    old = {demand.id: demand for demand in before.demands}
    new = {demand.id: demand for demand in after.demands}
    for demand_id in [*(name for name in old if name not in new), *new]:
        if demand_id not in new:
            yield Change(demand_id, DROPPED, old[demand_id].title)
        elif demand_id not in old:
            demand = new[demand_id]
            yield Change(demand_id, ADDED, f"{demand.title} ({demand.severity.word})")
        else:
            yield from _demand(old[demand_id], new[demand_id], context)
    yield from _limits(before, after)


def _demand(old: Demand, new: Demand, context: EvaluationContext | None) -> Iterator[Change]:
    if old.severity != new.severity:
        how = TIGHTENED if new.severity > old.severity else LOOSENED
        yield Change(new.id, how, f"severity {old.severity.word} → {new.severity.word}")
    if old.title != new.title:
        yield Change(new.id, SAME, f'title "{old.title}" → "{new.title}"')
    if old.mend_within != new.mend_within:
        longer = (new.mend_within or timedelta.max) > (old.mend_within or timedelta.max)
        words = " → ".join(_span(span, "without a date") for span in (old.mend_within, new.mend_within))
        yield Change(new.id, LOOSENED if longer else TIGHTENED, f"to be mended within {words}")
    if type(old) is not type(new) or old.table != new.table:
        yield Change(new.id, OTHERWISE, f"it is for each {new.table} now, and was for each {old.table}")
    elif isinstance(old, Rule) and isinstance(new, Rule):
        yield from _rule(old, new, context)
    elif isinstance(old, Tally) and isinstance(new, Tally):
        yield from _tally(old, new, context)


def _rule(old: Rule, new: Rule, context: EvaluationContext | None) -> Iterator[Change]:
    if old.who != new.who:
        yield _expression(new, "who", old.who, new.who, context, (WIDENED, NARROWED))
    if old.must != new.must and not _only_limits(old.must, new.must):
        yield _expression(new, "must", old.must, new.must, context, (LOOSENED, TIGHTENED))
    elif old.must != new.must and context is not None:
        yield _by_limits(old, new, context)
    if old.grace != new.grace:
        words = [_span(grace, "none") for grace in (old.grace, new.grace)]
        longer = (new.grace or _NO_TIME) > (old.grace or _NO_TIME)
        yield Change(new.id, LOOSENED if longer else TIGHTENED, f"grace {words[0]} → {words[1]}")


_NO_TIME = timedelta()


def _span(span: timedelta | None, otherwise: str) -> str:
    return constant_text(typed.Const(typed.SPAN, "", span)) if span else otherwise


def _tally(old: Tally, new: Tally, context: EvaluationContext | None) -> Iterator[Change]:
    if (old.least, old.most) != (new.least, new.most):
        inside = new.least >= old.least and new.most <= old.most
        around = new.least <= old.least and new.most >= old.most
        how = TIGHTENED if inside else LOOSENED if around else OTHERWISE
        yield Change(new.id, how, f"between {old.least} and {old.most} → {new.least} and {new.most}")
    if old.by != new.by:
        words = [f"by {term}" if term else "all in all" for term in (old.by, new.by)]
        yield Change(new.id, OTHERWISE, f"counted {words[0]} → {words[1]}")
    if old.count != new.count:
        yield _expression(new, "count", old.count, new.count, context, (WIDENED, NARROWED))


def _only_limits(old: Typed, new: Typed) -> bool:
    """Whether two expressions differ in nothing but the values of limits, which are told of themselves."""
    if type(old) is not type(new):
        return False
    if isinstance(old, typed.Const | typed.ConstList | typed.PerPopulation):
        return old == new or (bool(old.limit) and old.limit == getattr(new, "limit", None))
    if old.text != new.text or len(old.parts) != len(new.parts):
        return False
    return all(_only_limits(left, right) for left, right in zip(old.parts, new.parts, strict=True))


def _expression(
    demand: Demand,
    key: str,
    old: Typed,
    new: Typed,
    context: EvaluationContext | None,
    words: tuple[str, str],
) -> Change:
    """How an expression changed: `words` for one that more rows satisfy, and for one that fewer do."""
    text = f"{key}: {old.text} → {new.text}"
    if context is None:
        return Change(demand.id, OTHERWISE, text)
    answers = context.work_out(demand.table, [old, new])
    before, after = (answer.fill_null(False) for answer in answers)
    gained, lost = int((after & ~before).sum()), int((before & ~after).sum())
    unknown = any(answer.null_count() for answer in answers)
    if not gained and not lost:
        return Change(demand.id, SAME, f"{text} (the same {_rows(int(before.sum()), demand.table)} today)")
    how = words[0] if not lost else words[1] if not gained else OTHERWISE
    changes = " and ".join(
        part for part in (f"{gained:,} more" if gained else "", f"{lost:,} fewer" if lost else "") if part
    )
    open_ones = ", as far as it is known" if unknown else ""
    return Change(
        demand.id, how, f"{text} (today {changes} of {_rows(len(before), demand.table)}{open_ones})"
    )


def _by_limits(old: Rule, new: Rule, context: EvaluationContext) -> Change:
    """What other limits come to for the rows that a rule is for now."""
    who, before, after = context.work_out(new.table, [new.who, old.must, new.must])
    mine = who.fill_null(False)
    gained = int((mine & before.fill_null(True) & ~after.fill_null(True)).sum())
    lost = int((mine & ~before.fill_null(True) & after.fill_null(True)).sum())
    how = TIGHTENED if gained and not lost else LOOSENED if lost and not gained else OTHERWISE
    changes = [f"{gained:,} more do not meet it" if gained else "", f"{lost:,} more meet it" if lost else ""]
    words = " and ".join(part for part in changes if part)
    if not words:
        return Change(new.id, SAME, "other limits, and nobody today whom they make a difference to")
    return Change(new.id, how, f"by its limits: today {words}, of {_rows(int(mine.sum()), new.table)}")


def _rows(number: int, table: str) -> str:
    return f"{number:,} {table}" + ("" if number == 1 else "s")


def _limits(before: Rulebook, after: Rulebook) -> Iterator[Change]:
    for name in [*(limit for limit in before.limits if limit not in after.limits), *after.limits]:
        about = f"limit.{name}"
        old, new = before.limits.get(name), after.limits.get(name)
        if new is None:
            yield Change(about, DROPPED, f"it was {constant_text(old)}" if old else "")
        elif old is None:
            yield Change(about, ADDED, constant_text(new))
        elif old != new:
            yield Change(about, _how(name, old, new, after), f"{constant_text(old)} → {constant_text(new)}")
        yield from _populations(name, before, after)


def _populations(name: str, before: Rulebook, after: Rulebook) -> Iterator[Change]:
    old, new = (dict(book.populations.get(name, ())) for book in (before, after))
    for population in dict.fromkeys([*old, *new]):
        was, is_now = old.get(population), new.get(population)
        if was == is_now:
            continue
        about = f"limit.{name} for {population}"
        if is_now is None:
            yield Change(about, DROPPED, f"it was {constant_text(was)}" if was else "")
        elif was is None:
            yield Change(about, ADDED, constant_text(is_now))
        else:
            yield Change(
                about, _how(name, was, is_now, after), f"{constant_text(was)} → {constant_text(is_now)}"
            )


def _how(name: str, old: Limit, new: Limit, book: Rulebook) -> str:
    """Whether a limit is tighter: it depends on which side of it is asked for, in every rule that uses it."""
    if isinstance(old, typed.ConstList) or isinstance(new, typed.ConstList) or old.type != new.type:
        return OTHERWISE
    if not old.type.kind.is_ordered:
        return OTHERWISE
    sides = {side for rule in book.rules for side in _sides(rule.must, name, True)}
    if len(sides) != 1:
        return OTHERWISE
    smaller = new.value < old.value  # type: ignore[operator]
    return TIGHTENED if smaller == (sides == {"most"}) else LOOSENED


def _sides(node: Typed, name: str, wanted: bool) -> Iterator[str]:
    """Whether what is asked for is at `most` or at `least` the limit, in each comparison with it."""
    if isinstance(node, typed.Not):
        yield from _sides(node.operand, name, not wanted)
        return
    if isinstance(node, typed.RowQuery):
        if node.condition is not None:
            yield from _sides(node.condition, name, wanted != (node.question == "no"))
        return
    if isinstance(node, typed.Compare):
        for side, operators in ((node.right, ("<", "<=")), (node.left, (">", ">="))):
            if isinstance(side, typed.Const | typed.PerPopulation) and side.limit == name:
                ordered = node.operator in ("<", "<=", ">", ">=")
                most = (node.operator in operators) == wanted
                yield ("most" if most else "least") if ordered else "neither"
        return
    for part in node.parts:
        yield from _sides(part, name, wanted)


def as_frame(changes: list[Change]) -> pl.DataFrame:
    """The changes as rows: `about`, `how`, `words`."""
    rows = [(change.about, change.how, change.words) for change in changes]
    return pl.DataFrame(rows, schema=dict.fromkeys(("about", "how", "words"), pl.String), orient="row")
