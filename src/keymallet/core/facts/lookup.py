"""Finding an account by what people call it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import polars as pl
from rapidfuzz import fuzz, process, utils

from keymallet.core.base.problems import KeymalletError, Problem
from keymallet.core.facts.evidence import Evidence

NEAREST = 5
_CALLED = ("account", "name", "mail")
_KNOWN_AS = ("display", "person")
_BY_PART = 2 * len(_CALLED) + len(_KNOWN_AS)
"""The last way of matching: by a part of a name."""
_LEAST_PART = 3
"""Letters that a part of a name has to have."""
_MOST_NAMED = 8
LOOKED_AT = {"account": {*_CALLED, *_KNOWN_AS}}
"""The facts, by table, that accounts are found by."""


@dataclass(frozen=True)
class Looked:
    """What a search found in one body of evidence: the `rows` that match best, and how well (0 is best).

    `how` is None where nothing matches. `names` are those of the accounts, `persons` the numbers of their
    people, or None.
    """

    how: int | None = None
    rows: tuple[int, ...] = ()
    names: tuple[str, ...] = ()
    persons: tuple[str | None, ...] = ()


Nearest = list[tuple[float, str]]
"""How near the names of accounts come to what is wanted (100 is the same), the nearest first."""


def find_accounts(evidence: Evidence, wanted: str) -> list[int]:
    """The rows of the accounts meant: by key, else by name, else by mail; then the same in any case.

    Then by the name or number of the person; at last by a part of any of these that only one person has.
    Raises KeymalletError with the nearest names if there is none, or with all if several are meant.
    """
    found = meant([look_for(evidence, wanted)], wanted)
    if not found:
        raise not_there([nearest(evidence, wanted)], wanted)
    return [row for _, row in found]


def look_for(evidence: Evidence, wanted: str) -> Looked:
    """The accounts of one shard that match best; see `find_accounts`."""
    accounts = evidence.tables["account"]
    for how, rows in enumerate(_ways(accounts, wanted)):
        if len(rows):
            mine = accounts.select("account", "person")[rows]
            return Looked(how, tuple(rows), tuple(mine["account"]), tuple(mine["person"]))
    return Looked()


def meant(found: Sequence[Looked], wanted: str) -> list[tuple[int, int]]:
    """The accounts that match best in all shards, each by its shard and its row there; none if none does.

    Raises KeymalletError if a part of a name leaves open who is meant.
    """
    best = min((each.how for each in found if each.how is not None), default=None)
    if best is None:
        return []
    hits = [(shard, each) for shard, each in enumerate(found) if each.how == best]
    named = [name for _, each in hits for name in each.names]
    persons = {person for _, each in hits for person in each.persons}
    if best == _BY_PART and len(named) > 1 and (len(persons) > 1 or None in persons):
        more = f" and {len(named) - _MOST_NAMED:,} more" if len(named) > _MOST_NAMED else ""
        hint = f"which: {', '.join(named[:_MOST_NAMED])}{more}"
        raise KeymalletError(
            Problem(f'"{wanted}" is part of the names of {len(named):,} accounts', hint=hint)
        )
    return [(shard, row) for shard, each in hits for row in each.rows]


def nearest(evidence: Evidence, wanted: str) -> Nearest:
    """The accounts of one shard whose names come nearest."""
    accounts = evidence.tables["account"]
    names = accounts["account" if "/" in wanted else "name"].to_list()
    matches = process.extract(
        wanted, names, scorer=fuzz.ratio, processor=utils.default_process, limit=NEAREST, score_cutoff=60
    )
    return [(score, accounts["account"][place]) for _, score, place in matches]


def not_there(near: Sequence[Nearest], wanted: str) -> KeymalletError:
    """That there is no such account in any shard, with the nearest names of all."""
    ranked = sorted((each for of_shard in near for each in of_shard), key=lambda each: -each[0])
    names = [name for _, name in ranked[:NEAREST]]
    hint = f"did you mean {', '.join(names)}?" if names else ""
    return KeymalletError(Problem(f'there is no account "{wanted}" in the snapshot', hint=hint))


def _ways(accounts: pl.DataFrame, wanted: str) -> Iterator[pl.Series]:
    """The rows that match, for one way of matching after the other."""
    for fold in (False, True):
        for column in _CALLED:
            values = accounts[column].str.to_lowercase() if fold else accounts[column]
            yield (values == (wanted.lower() if fold else wanted)).fill_null(False).arg_true()
    folded = _folded(pl.Series([wanted]))[0]
    names = {column: _folded(accounts[column]) for column in _KNOWN_AS}
    for known in names.values():
        yield (known == folded).fill_null(False).arg_true()
    yield _with_part([names["display"], _folded(accounts["name"]), _folded(accounts["mail"])], folded)


def _folded(names: pl.Series) -> pl.Series:
    """Names in small letters, without accents and blanks around them."""
    return names.str.normalize("NFKD").str.replace_all(r"\p{M}", "").str.to_lowercase().str.strip_chars()


def _with_part(names: list[pl.Series], part: str) -> pl.Series:
    """The rows in which one of these names holds a part, if that has a few letters."""
    if len(part) < _LEAST_PART:
        return pl.Series([], dtype=pl.UInt32)
    holds = [name.str.contains(part, literal=True).fill_null(False) for name in names]
    return (holds[0] | holds[1] | holds[2]).arg_true()


def of_same_person(evidence: Evidence, row: int) -> list[str]:
    """The other accounts of the person whose account stands at this row, as source/name."""
    accounts = evidence.tables["account"]
    person = accounts["person"][row]
    if person is None:
        return []
    rows = (accounts["person"] == person).fill_null(False).arg_true().to_list()
    return [accounts["account"][other] for other in rows if other != row]
