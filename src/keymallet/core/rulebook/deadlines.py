"""How long a breach may stay: by severity for a whole book, or by a rule of its own; and former ids."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from datetime import timedelta
from typing import Any

from keymallet.core.base.nearest import did_you_mean
from keymallet.core.language.literals import parse_span
from keymallet.core.rulebook.includes import Item, Parts
from keymallet.core.rulebook.model import COUNTED_FROM, SEEN, SEVERITIES, Demand

_COUNTED = "counted-from"
_LIKE = 'like "14d"'


@dataclass(frozen=True)
class _Deadlines:
    """What a book says of all its rules."""

    by_severity: dict[str, timedelta] = field(default_factory=dict)
    counted_from: str = SEEN


def with_deadlines(parts: Parts, demands: Sequence[Demand | None]) -> Iterator[Demand]:
    """The demands, each with its time to mend; what is wrong with that is noted in the documents."""
    deadlines = _of_book(parts)
    taken: dict[str, str] = {}
    for (demand_id, (_, item)), demand in zip(parts.demands.items(), demands, strict=True):
        data = item.value if isinstance(item.value, dict) else {}
        own = _span(item, data.get("mend-within", ""), "mend-within")
        _check_former(item, demand_id, data.get("formerly"), parts, taken)
        if demand is not None:
            within = own or deadlines.by_severity.get(demand.severity.word)
            yield replace(demand, mend_within=within, counted_from=deadlines.counted_from)


def _of_book(parts: Parts) -> _Deadlines:
    spans, counted_from = {}, SEEN
    for key, item in parts.mend_within.items():
        if key == _COUNTED:
            counted_from = item.value
            if counted_from not in COUNTED_FROM:
                item.fault(f'nothing is counted from "{counted_from}"', '"seen" or "since"')
        elif key not in SEVERITIES:
            words = (*SEVERITIES, _COUNTED)
            item.fault(
                f'"{key}" is no severity', did_you_mean(key, words) or f"there are: {', '.join(words)}"
            )
        elif not isinstance(item.value, str):
            item.fault("this has to be a length of time", _LIKE)
        elif span := _span(item, item.value):
            spans[key] = span
    return _Deadlines(spans, counted_from)


def _span(item: Item, text: Any, *below: str) -> timedelta | None:
    """A length of time of more than nothing; None where nothing is said, or it is no such."""
    if not isinstance(text, str) or (not text and below):
        return None  # reported as a misfit of its type, where it is one
    span = parse_span(text)
    if not span:
        item.fault(f'"{text}" is no length of time', _LIKE, *below)
    return span or None


def _check_former(item: Item, demand_id: str, former: Any, parts: Parts, taken: dict[str, str]) -> None:
    """A former id is no rule's now, and no other's former one: else two rules would have one history."""
    for place, name in enumerate(former if isinstance(former, list) else []):
        if name in parts.demands:
            item.fault(
                f'there is a rule "{name}" now', "a former id is one that no rule has", "formerly", place
            )
        elif name in taken:
            item.fault(f'"{name}" is a former id of "{taken[name]}"', "leave it to one", "formerly", place)
        elif isinstance(name, str):
            taken[name] = demand_id
