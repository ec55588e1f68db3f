"""What became of proposals: whether the findings that each was to end are over, by what later runs found."""

from __future__ import annotations

from collections.abc import Mapping

import polars as pl

from keymallet.core.history.states import BROKEN, State

STANDS, NOT_SEEN, UNKNOWN = "stands", "not seen", "not on record"
RESULTS = (STANDS, NOT_SEEN, UNKNOWN)
"""What is not done, the worst first; what is done has the word of the state that its findings came to."""
RESULT = "result"


def with_results(proposals: pl.DataFrame, states: Mapping[str, State]) -> pl.DataFrame:
    """The proposals (`proposal`, `findings`: ids and blanks) with the RESULT of each, the worst first.

    `states` is where each finding stands now. One finding that stands leaves the whole proposal standing.
    """
    results = [_result(ids or "", states) for ids in proposals["findings"]]
    ranks = {word: place for place, word in enumerate(RESULTS)}
    rank = pl.col(RESULT).replace_strict(ranks, default=len(RESULTS), return_dtype=pl.Int64)
    told = proposals.with_columns(pl.Series(RESULT, results, dtype=pl.String))
    return told.sort(rank, pl.col("proposal"), maintain_order=True)


def _result(ids: str, states: Mapping[str, State]) -> str:
    found = [states.get(each) for each in ids.split()]
    if not found or None in found:
        return UNKNOWN
    if any(state in BROKEN for state in found):
        return STANDS
    if State.NOT_SEEN in found:
        return NOT_SEEN
    return ", ".join(sorted({str(state) for state in found}))
