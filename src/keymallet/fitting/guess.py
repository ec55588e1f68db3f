"""The guessed column map of an export: the whole of it, out of what each of its tables can be."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from datetime import date
from itertools import pairwise

from keymallet.core.facts.declaration import ACCOUNT
from keymallet.fitting.fits import Context, fit_values
from keymallet.fitting.lists import list_parts, numbered_columns, with_members
from keymallet.fitting.matching import LEAST, LIKELY, TABLES_TRIED, Asked, Match, Part, best_part
from keymallet.fitting.sample import Export
from keymallet.fitting.shapes import Shape
from keymallet.fitting.vocabulary import name_score, understood

_TIME_OF_DAY = re.compile(r"(?:[01]?\d|2[0-3]):[0-5]\d(?::[0-5]\d)?")


@dataclass
class Guess:
    """A whole guess: the parts of the map, and the columns that are no facts, with why if known."""

    export: Export
    parts: list[Part]
    unused: dict[str, str] = field(default_factory=dict)
    remarks: list[str] = field(default_factory=list)


def guess(export: Export, today: date, asked: Asked) -> Guess | None:
    """Guess the column map of an export; None where no column can be the key of any table."""
    sample = replace(export.sample, columns=[*export.sample.columns, *with_members(export.sample)])
    tables = [asked.table] if asked.table else TABLES_TRIED
    every = [Shape(column) for column in sample.columns]
    # A map takes columns by their names: what has none cannot be taken.
    shapes = [shape for shape in every if shape.column.header]
    numbered = numbered_columns(export.sample)
    single = [shape for shape in shapes if shape.column.header not in numbered]
    first = best_part(single, tables, Context(today), asked) if numbered and single else None
    if first is None or first.table is not ACCOUNT:
        first = best_part(shapes, tables, Context(today), asked)
    if first is None:
        return None
    order = _common_order(first.matches)
    if order:
        used_of = single if numbered and first.table is ACCOUNT else shapes
        first = best_part(used_of, [first.table.name], Context(today, order), asked) or first
    context = Context(today, order)
    parts = [first, *list_parts(sample, first, context, export.format)]
    times = _with_times(first, shapes) if export.format == "csv" else set()
    whole_map = Guess(export, parts)
    used = times | {column for part in parts for column in part.spread}
    used |= {match.column.header for part in parts if not part.rows for match in part.matches}
    used |= {part.rows for part in parts}
    for shape in every[: len(export.sample.columns)]:
        if shape.column.header not in used:
            whole_map.unused[shape.column.header] = _why_unused(shape, first, context)
    return whole_map


def _with_times(part: Part, shapes: Sequence[Shape]) -> set[str]:
    """Put a day and the time in the column behind it together; gives those columns of times."""
    taken = {match.column.header: match for match in part.matches if part.uses(match)}
    found = set()
    for day, behind in pairwise(shapes):
        match, header = taken.get(day.column.header), behind.column.header
        if match is None or match.fit.dates is None or header in taken or not behind.total:
            continue
        dates = match.fit.dates
        if not dates.plain_days or dates.zoneless or behind.share(_times(behind)) < 1.0:
            continue
        if not _tells_no_more(header, day.column.header):
            continue
        seconds = any(value.count(":") > 1 for value in behind.told)
        days = ["%Y-%m-%d" if written == "iso" else written for written in match.fit.options["formats"]]
        together = [f"{written} %H:%M{':%S' if seconds else ''}" for written in days]
        match.fit.options |= {"from": [day.column.header, header], "formats": [*together, *days]}
        match.fit.remark = "; ".join(filter(None, (match.fit.remark, f'with its time from "{header}"')))
        match.fit.doubtful = True
        found.add(header)
    return found


def _tells_no_more(header: str, of_day: str) -> bool:
    """Whether a column of times is about nothing but what the day before it is about."""
    about = {concept for piece in understood(of_day).pieces for concept in piece.concepts} | {"hours"}
    read = understood(header)
    return not read.letters_left and all(piece.concepts & about for piece in read.pieces)


def _times(shape: Shape) -> set[str]:
    return {value for value in shape.told if _TIME_OF_DAY.fullmatch(value)}


def _common_order(matches: Sequence[Match]) -> str:
    """Day first or month first, where a column proves it."""
    orders = Counter(match.fit.dates.order for match in matches if match.fit.dates and match.fit.dates.proven)
    orders.pop("", None)
    return orders.most_common(1)[0][0] if orders else ""


def _why_unused(shape: Shape, part: Part, context: Context) -> str:
    """What keeps a column from being the fact that its header names; empty where it names none."""
    if not shape.total:
        return "nothing stands there"
    named = [
        (score.score, fact, score)
        for fact in part.table.columns
        for score in [name_score(shape.column.names, part.table, fact)]
        if score.score >= LEAST[LIKELY]
    ]
    if not named:
        return ""
    _, fact, how = max(named, key=lambda item: item[0])
    other = next((match for match in part.matches if match.fact is fact), None)
    if other is not None:
        return f'{fact.name} is taken from "{other.column.header}"'
    remark = fit_values(shape, part.table, fact, context, how).remark
    return f"called like {fact.name}, but {remark}" if remark else ""
