"""A folder with a listing of accounts for each computer: one source, in which the file's name tells which."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import replace
from pathlib import PurePosixPath

from keymallet.core.facts.declaration import ACCOUNT
from keymallet.core.facts.model import Column
from keymallet.fitting.fits import Fit
from keymallet.fitting.guess import Guess
from keymallet.fitting.matching import Match, Part
from keymallet.fitting.sample import Export, Sample, SampledColumn
from keymallet.sources.export.map_shapes import FILE_NAME
from keymallet.starting.survey import EXPORT, LISTING, Found

_MOST_ACCOUNTS = 50
"""Of one computer."""
_DATED = re.compile(r".*(?:19|20)\d\d[-_.]?\d\d.*")
_FEWEST = 3
"""Files of one shape in a folder of their own that are a listing each."""


def listings(found: Sequence[Found]) -> dict[str, tuple[Guess, list[str]]]:
    """By the pattern of their paths, listings that belong together: what each is, and the files."""
    folders: dict[tuple[str, str, str], list[Found]] = defaultdict(list)
    for each in found:
        path = PurePosixPath(each.path)
        if len(path.parts) > 1 and each.kind in (EXPORT, LISTING):
            folders[str(path.parent), path.suffix, _shape(each)].append(each)
    return {
        f"{folder}/*{suffix}": (_together(members), [each.path for each in members])
        for (folder, suffix, shape), members in folders.items()
        if shape and len(members) >= _FEWEST
    }


def _shape(found: Found) -> str:
    """What files have to have in common; nothing, where it is no listing of accounts alone."""
    if found.kind == LISTING:
        return LISTING
    guess = found.guess
    dated = _DATED.fullmatch(PurePosixPath(found.path).stem)
    if guess is None or guess.export.sample.rows > _MOST_ACCOUNTS or dated:
        return ""  # so many accounts, or a date for a name: exports of a system at different times
    if [part.table.name for part in guess.parts] != ["account"]:
        return ""
    if any(match.fact.name == "mail" for part in guess.parts for match in part.matches):
        return ""
    return "|".join(column.header for column in guess.export.sample.columns)


def _together(members: Sequence[Found]) -> Guess:
    """One guess for all: an account is known by its computer and its name there."""
    guesses = [each.guess for each in members if each.guess]
    guess = max(guesses, key=lambda each: each.export.sample.rows) if guesses else _without_header()
    (part,) = guess.parts
    named = next(match for match in part.matches if match.fact.name == "name")
    columns = [FILE_NAME, named.column.header]
    computer = SampledColumn(FILE_NAME, {}, 0, 0)
    others = [match for match in part.matches if match.fact.name not in ("name", "location")]
    fit = replace(named.fit, options={"from": columns, "join": "/"}, remark="the file tells the computer")
    part.matches[:] = [
        replace(named, fit=fit),
        Match(_fact("location"), computer, Fit(1.0), 1.0),
        *others,
    ]
    return guess


def _without_header() -> Guess:
    """A list of names and nothing else: its only column is called 1."""
    column = SampledColumn("1", {}, 0, 0)
    match = Match(_fact("name"), column, Fit(1.0), 1.0)
    export = Export("", "csv", Sample([column], 0), separator=",", header_line=0)
    return Guess(export, [Part(ACCOUNT, [match])])


def _fact(name: str) -> Column:
    fact = ACCOUNT.column(name)
    assert fact is not None
    return fact
