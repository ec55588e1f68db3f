"""Finding an account by what people call it."""

from __future__ import annotations

import polars as pl
from rapidfuzz import fuzz, process, utils

from keymallet.core.base.problems import KeymalletError, Problem
from keymallet.core.facts.evidence import Evidence

NEAREST = 5


def find_accounts(evidence: Evidence, wanted: str) -> list[int]:
    """The rows of the accounts meant: by key, else by name, else by mail; then the same in any case.

    Raises KeymalletError with the nearest names if there is none.
    """
    accounts = evidence.tables["account"]
    for fold in (False, True):
        for column in ("account", "name", "mail"):
            values = accounts[column].str.to_lowercase() if fold else accounts[column]
            rows = (values == (wanted.lower() if fold else wanted)).fill_null(False).arg_true()
            if len(rows):
                return rows.to_list()
    near = _nearest(accounts, wanted)
    hint = f"did you mean {', '.join(near)}?" if near else ""
    raise KeymalletError(Problem(f'there is no account "{wanted}" in the snapshot', hint=hint))


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
