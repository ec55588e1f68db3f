"""Small operations on whole columns that several rooms need."""

from __future__ import annotations

from collections.abc import Iterable

import polars as pl


def only_where(condition: pl.Series, values: pl.Series) -> pl.Series:
    """The values where the condition is true; null where it is false or not known. Of one length each."""
    frame = pl.DataFrame({"if": condition, "then": values})
    return frame.select(pl.when("if").then("then")).to_series()


def repeated(frame: pl.DataFrame) -> pl.Series:
    """The places of the rows that are there more than once."""
    # Numbers take a fraction of the memory that texts do to be held against each other; what is alike in
    # them is held against each other as it is.
    hashes = frame.hash_rows()
    places = hashes.is_duplicated().arg_true()
    return places.filter(frame[places].is_duplicated()) if len(places) else places


def is_repeated(frame: pl.DataFrame) -> pl.Series:
    """Of each row whether it is there more than once."""
    return pl.repeat(False, frame.height, dtype=pl.Boolean, eager=True).scatter(repeated(frame), True)


def only(frame: pl.DataFrame, names: Iterable[str]) -> pl.DataFrame:
    """These columns of a frame.

    Unlike `select` this leaves all others as they lie in memory: those of a large frame, in pieces of
    different lengths, would be copied whole for the sake of a few.
    """
    return pl.DataFrame([frame[name] for name in names])
