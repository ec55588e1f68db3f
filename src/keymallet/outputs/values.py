"""Rows on their way out, and how their values are written in every format that is text.

Instants are written as RFC 3339 does, in UTC and to the microsecond; lengths of time as ISO 8601
does (`P90DT8H`). What cannot be told is empty or null.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any, NamedTuple

import polars as pl

from keymallet.core.facts.evidence import INSTANT

AT_ONCE = 50_000
"""So many rows of a frame are written at once."""


@dataclass(frozen=True)
class OutputRows:
    """Rows to be written, of any kind, part by part, each with the same columns; at least one, even if empty.

    `head` is what a format with room for it says in front of them, `name` what it calls them. With
    `spreadsheet`, they are meant for a program that takes some texts for formulas.
    """

    parts: Iterable[pl.DataFrame]
    head: Mapping[str, Any]
    name: str
    spreadsheet: bool = False


class Around(NamedTuple):
    """What a format has before all rows, between two parts of them, and after them."""

    before: bytes = b""
    between: bytes = b""
    after: bytes = b""


def parts_of(frame: pl.DataFrame) -> Iterable[pl.DataFrame]:
    """The frame part by part, none of them so long that it would take much memory to write it."""
    return frame.iter_slices(AT_ONCE) if frame.height else [frame]


def in_text(frame: pl.DataFrame) -> pl.DataFrame:
    """The frame with instants and lengths of time as text."""
    return frame.with_columns(
        pl.col(INSTANT).dt.strftime("%Y-%m-%dT%H:%M:%S%.6fZ"),
        pl.col(pl.Duration("us")).dt.to_string("iso"),
    )
