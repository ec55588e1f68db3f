"""Tokens in place of names, so that a sealed run can leave the house: one name is one token everywhere.

Tokens are keyed (BLAKE2b with a key that is made anew for each seal and kept nowhere): nobody can try names
to find out which token is whose.
"""

from __future__ import annotations

import hashlib
import re
import secrets
from collections.abc import Iterable
from typing import Any

import polars as pl

_WORD = re.compile(r"[\w.@+$-]+")
_EDGES = ".-+"
_DIGEST_BYTES = 6
_SHORTEST = 2


class Pseudonyms:
    """Gives every known name its token, wherever it stands: as a whole, or as a word of a text."""

    def __init__(self, known: Iterable[str]) -> None:
        key = secrets.token_bytes(32)
        names = {name for name in known if len(name) >= _SHORTEST}
        self.tokens = {
            name: "p-" + hashlib.blake2b(name.encode(), key=key, digest_size=_DIGEST_BYTES).hexdigest()
            for name in names
        }
        # Names of several words are looked for in a text as they stand, the longest first.
        spread = [name for name in names if not _WORD.fullmatch(name)]
        self._spread = sorted(spread, key=lambda name: (-len(name), name))

    def in_text(self, text: str) -> str:
        """The text with tokens."""
        return str(self.in_series(pl.Series([text]))[0])

    def in_series(self, texts: pl.Series) -> pl.Series:
        """The texts with tokens, each of them worked out once."""
        distinct = texts.drop_nulls().unique()
        if not len(distinct):
            return texts
        whole = distinct
        if self._spread:
            with_tokens = [self.tokens[name] for name in self._spread]
            whole = distinct.str.replace_many(self._spread, with_tokens, leftmost=True)
        masked = pl.Series([self._words(text) for text in whole], dtype=pl.String)
        return texts.replace_strict(distinct, masked, default=None, return_dtype=pl.String)

    def _words(self, text: str) -> str:
        if text in self.tokens:
            return self.tokens[text]
        return _WORD.sub(self._word, text)

    def _word(self, found: re.Match[str]) -> str:
        word = found[0]
        bare = word.strip(_EDGES)
        for told in (word, bare):
            if told in self.tokens:
                return word.replace(told, self.tokens[told])
        return word

    def in_frame(self, frame: pl.DataFrame) -> pl.DataFrame:
        """The frame with tokens in every text and every member of a list."""
        columns = []
        for column in frame.get_columns():
            if column.dtype == pl.String:
                columns.append(self.in_series(column).alias(column.name))
            elif column.dtype == pl.List(pl.String):
                columns.append(self._in_lists(column))
            else:
                columns.append(column)
        return pl.DataFrame(columns)

    def _in_lists(self, column: pl.Series) -> pl.Series:
        places = pl.DataFrame({"was": column}).with_row_index("place")
        members = places.filter(pl.col("was").list.len() > 0).explode("was")
        masked = members.select("place", self.in_series(members["was"]).alias("now"))
        listed = masked.group_by("place", maintain_order=True).agg("now")
        # What is empty, or none at all, stays as it is.
        both = places.join(listed, on="place", how="left", maintain_order="left")
        return both.select(pl.coalesce("now", "was").alias(column.name)).to_series()

    def in_values(self, value: Any) -> Any:
        """JSON values with tokens in every text; the names of fields stay."""
        if isinstance(value, str):
            return self.in_text(value)
        if isinstance(value, list):
            return [self.in_values(each) for each in value]
        if isinstance(value, dict):
            return {name: self.in_values(each) for name, each in value.items()}
        return value
