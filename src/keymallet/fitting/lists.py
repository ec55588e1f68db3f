"""Lists inside records as rows of their own: a person's authenticators in one cell, keys in a JSON list."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import replace
from datetime import date

from keymallet.core.facts.declaration import ACCOUNT, FACTOR, GRANT, KEY, TABLES
from keymallet.core.facts.model import Column, Table
from keymallet.fitting.fits import Context, fit_values
from keymallet.fitting.matching import Asked, Match, Part, best_part
from keymallet.fitting.sample import Sample, SampledColumn
from keymallet.fitting.shapes import Shape
from keymallet.fitting.vocabulary import header_score, name_score, understood
from keymallet.sources.export.json_path import MEMBER, OUTSIDE

_NAMED = {"factor": "factor", "key": "key", "grant": "role", "elevation": "asked", "sign-in": "sign-in"}
"""Tables that lists can fill, with the concept that the name of such a list holds."""
_NUMBER = re.compile(r"(?<![A-Za-z\d])\d{1,2}(?!\d)")
_LEAST_HEADER = 0.6
_LEAST_WORDS = 0.6
_ANY_DAY = date(2000, 1, 1)
"""Nothing is asked of it here: these facts are no dates."""


def with_members(sample: Sample) -> Iterator[SampledColumn]:
    """Columns out of lists of objects that are facts of the record around them: groups, mail addresses."""
    groups = ACCOUNT.column("groups")
    assert groups is not None
    for inner in sample.lists:
        names_groups = header_score(inner.path, ACCOUNT, groups).score >= _LEAST_HEADER
        for column in inner.columns:
            shape = Shape(column)
            if names_groups and shape.total and shape.distinct < 1.0:
                yield SampledColumn(
                    f"{inner.path}[].{column.header}", column.values, sample.rows, 0, is_list=True
                )
                break
            if shape.mails > 0.9 and inner.path:
                yield SampledColumn(f"{inner.path}[0].{column.header}", column.values, sample.rows, 0)
                break


def list_parts(sample: Sample, first: Part, context: Context, export_format: str) -> list[Part]:
    """Further tables that the lists in the records fill, each row an account's."""
    if first.table is not ACCOUNT:
        return []
    key = next(match for match in first.matches if match.fact.name == "name")
    used = {match.column.header for match in first.matches if match.is_used and match.by_header}
    unused_lists = [
        inner for inner in sample.lists if not any(header.startswith(f"{inner.path}[") for header in used)
    ]
    spread = _numbered(sample, key, context)
    if spread is not None:
        first.matches[:] = [match for match in first.matches if match.column.header not in spread.spread]
    parts = [spread, *(_of_objects(inner, key, context) for inner in unused_lists)]
    parts += [_of_cells(column, key, export_format) for column in sample.columns if column.header not in used]
    taken: set[str] = set()
    kept = []
    for part in filter(None, parts):
        if part.table.name not in taken:  # a second list of the same would need telling them apart
            taken.add(part.table.name)
            kept.append(part)
    return kept


def _account(table: Table, key: Match, export_format: str) -> Match:
    """The account of each row: in JSON it stands in the record around the list."""
    fact = _account_of(table)
    header = f"{OUTSIDE}{key.column.header}" if export_format == "json" else key.column.header
    column = SampledColumn(header, key.column.values, key.column.rows, key.column.empty)
    return Match(fact, column, fit_values(Shape(column), table, fact, Context(_ANY_DAY)), key.score)


def _by_template(sample: Sample) -> dict[str, list[SampledColumn]]:
    """Columns that differ in a number alone, by their name with `{n}` for it."""
    groups: dict[str, list[SampledColumn]] = {}
    for column in sample.columns:
        if not column.steps and len(_NUMBER.findall(column.header)) == 1:
            groups.setdefault(_NUMBER.sub("{n}", column.header), []).append(column)
    return {template: columns for template, columns in groups.items() if len(columns) > 1}


def numbered_columns(sample: Sample) -> set[str]:
    """The names of columns that differ from others in a number alone."""
    return {column.header for columns in _by_template(sample).values() for column in columns}


def _numbered(sample: Sample, key: Match, context: Context) -> Part | None:
    """Columns that are numbered ("Key 1 created", "Key 2 created"): a row for each number."""
    several = _by_template(sample)
    if not several:
        return None
    account = _account(KEY, key, "csv")
    shapes = [Shape(_merged(template, columns)) for template, columns in several.items()]
    asked = Asked(facts={"account": account.column.header})
    part = best_part([*shapes, Shape(account.column)], ["key", "factor"], context, asked)
    if part is None or not all(match.by_header for match in part.matches):
        return None
    others = [match for match in part.matches if match.fact.name != "account" and part.uses(match)]
    part.matches = [replace(account, fact=_account_of(part.table)), *others]
    part.spread = tuple(column.header for match in others for column in several[match.column.header])
    return part if others else None


def _merged(template: str, columns: list[SampledColumn]) -> SampledColumn:
    """All columns of one name as if they were one; the number in it says nothing."""
    values: dict[str, int] = {}
    for column in columns:
        for value, times in column.values.items():
            values[value] = values.get(value, 0) + times
    rows, empty = sum(column.rows for column in columns), sum(column.empty for column in columns)
    return SampledColumn(template, values, rows, empty, steps=(template.replace("{n}", " "),))


def _account_of(table: Table) -> Column:
    fact = table.column("account")
    assert fact is not None
    return fact


def _of_objects(inner: Sample, key: Match, context: Context) -> Part | None:
    """A list of objects: the table whose name the list bears, or whose facts its members have."""
    concepts = {concept for piece in understood(inner.path).pieces for concept in piece.concepts}
    named = [table for table, concept in _NAMED.items() if concept in concepts]
    shapes = [Shape(column) for column in inner.columns]
    best: Part | None = None
    for name in named or _NAMED:
        table = TABLES[name]
        account = _account(table, key, "json")
        asked = Asked(facts={"account": account.column.header})
        part = best_part([*shapes, Shape(account.column)], [name], context, asked)
        if part is None:
            continue
        part.matches = [account, *(match for match in part.matches if match.fact is not account.fact)]
        part.rows = inner.path
        if best is None or part.weight > best.weight:
            best = part
    return best


def _of_cells(column: SampledColumn, key: Match, export_format: str) -> Part | None:
    """A list of words in a cell: kinds of proof, or roles."""
    shape = Shape(column)
    if not shape.total:
        return None
    mark = shape.list_mark
    members = column.members(mark)  # words for nothing included: the map has to name those
    for table, name in ((FACTOR, "kind"), (GRANT, "role")):
        fact = table.column(name)
        assert fact is not None
        by_header = max(name_score(column.names, table, fact).score, _called(column, _NAMED[table.name]))
        if by_header < _LEAST_HEADER:
            continue
        inside = SampledColumn(MEMBER, members, sum(members.values()), 0)
        fit = fit_values(Shape(inside), table, fact, Context(_ANY_DAY))
        if fit.share < _LEAST_WORDS or (table is GRANT and Shape(inside).share(set(shape.true)) > 0.5):
            continue
        matches = [_account(table, key, export_format), Match(fact, inside, fit, by_header * fit.share)]
        return Part(table, matches, column.header, "" if column.is_list else mark or ";")
    return None


def _called(column: SampledColumn, concept: str) -> float:
    """The share of a header's letters that stand for this."""
    read = understood(column.names[-1])
    letters = sum(piece.letters for piece in read.pieces) + read.letters_left
    mine = sum(piece.letters for piece in read.pieces if concept in piece.concepts)
    return mine / letters if letters else 0.0
