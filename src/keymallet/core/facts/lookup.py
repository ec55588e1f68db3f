"""Finding an account by what people call it."""

from __future__ import annotations

import polars as pl
from rapidfuzz import fuzz, process, utils

from keymallet.core.base.problems import KeymalletError, Problem
from keymallet.core.facts.evidence import Evidence

NEAREST = 5
_CALLED = ("account", "name", "mail")
_KNOWN_AS = ("display", "person")
_LEAST_PART = 3
"""Letters that a part of a name has to have."""
_MOST_NAMED = 8


def find_accounts(evidence: Evidence, wanted: str) -> list[int]:
    """The rows of the accounts meant: by key, else by name, else by mail; then the same in any case.

    Then by the name or number of the person; at last by a part of any of these that only one person has.
    Raises KeymalletError with the nearest names if there is none, or with all if several are meant.
    """
    accounts = evidence.tables["account"]
    for fold in (False, True):
        for column in _CALLED:
            values = accounts[column].str.to_lowercase() if fold else accounts[column]
            rows = (values == (wanted.lower() if fold else wanted)).fill_null(False).arg_true()
            if len(rows):
                return rows.to_list()
    folded = _folded(pl.Series([wanted]))[0]
    names = {column: _folded(accounts[column]) for column in _KNOWN_AS}
    for known in names.values():
        known_as: list[int] = (known == folded).fill_null(False).arg_true().to_list()
        if known_as:
            return known_as
    rows = _with_part([names["display"], _folded(accounts["name"]), _folded(accounts["mail"])], folded)
    if len(rows) == 1 or _are_of_one(accounts["person"].gather(rows)):
        meant: list[int] = rows.to_list()
        return meant
    if len(rows):
        named = accounts["account"].gather(rows)
        more = f" and {len(named) - _MOST_NAMED:,} more" if len(named) > _MOST_NAMED else ""
        hint = f"which: {', '.join(named.head(_MOST_NAMED))}{more}"
        raise KeymalletError(
            Problem(f'"{wanted}" is part of the names of {len(named):,} accounts', hint=hint)
        )
    near = _nearest(accounts, wanted)
    hint = f"did you mean {', '.join(near)}?" if near else ""
    raise KeymalletError(Problem(f'there is no account "{wanted}" in the snapshot', hint=hint))


def _folded(names: pl.Series) -> pl.Series:
    """Names in small letters, without accents and blanks around them."""
    return names.str.normalize("NFKD").str.replace_all(r"\p{M}", "").str.to_lowercase().str.strip_chars()


def _with_part(names: list[pl.Series], part: str) -> pl.Series:
    """The rows in which one of these names holds a part, if that has a few letters."""
    if len(part) < _LEAST_PART:
        return pl.Series([], dtype=pl.UInt32)
    holds = [name.str.contains(part, literal=True).fill_null(False) for name in names]
    return (holds[0] | holds[1] | holds[2]).arg_true()


def _are_of_one(persons: pl.Series) -> bool:
    """Whether accounts are all of one and the same person."""
    return len(persons) > 0 and persons.null_count() == 0 and persons.n_unique() == 1


def of_same_person(evidence: Evidence, row: int) -> list[str]:
    """The other accounts of the person whose account stands at this row, as source/name."""
    accounts = evidence.tables["account"]
    person = accounts["person"][row]
    if person is None:
        return []
    rows = (accounts["person"] == person).fill_null(False).arg_true().to_list()
    return [accounts["account"][other] for other in rows if other != row]


def _nearest(accounts: pl.DataFrame, wanted: str) -> list[str]:
    column = "account" if "/" in wanted else "name"
    names = accounts[column].to_list()
    matches = process.extract(
        wanted, names, scorer=fuzz.ratio, processor=utils.default_process, limit=NEAREST, score_cutoff=60
    )
    return [accounts["account"][place] for _, _, place in matches]
