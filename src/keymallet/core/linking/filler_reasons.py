"""Reasons that are none: empty, a word or two, filler, the same letters again."""

from __future__ import annotations

import polars as pl

_FILLER = (
    r"^[\W\d_]*((n/?a|none|no|nil|test(ing)?|tbd|todo|tba|asdf\w*|qwert\w*|xx+|foo|bar|needed|required|urgent"
    r"|as (discussed|agreed|usual|above|before|requested)|see (ticket|mail|above)|business (need|reason)s?"
    r"|exception|exemption|temporary|misc|various|other|because|reason|work|access|admin|ok|yes|please)"
    r"[\W\d_]*)*$"
)
_FEWEST_WORDS = 4
_FEWEST_LETTERS = 15
_FEWEST_DIFFERENT = 6


def is_filler(reasons: pl.Series) -> pl.Series:
    """Whether each reason says nothing: shorter than a sentence, filler alone, or hardly any letters.

    True of an empty one and of none at all (null): that a source supplies no reasons is another question,
    which the caller has to ask. A sentence here is four words, and fifteen letters of six kinds.
    """
    written = reasons.fill_null("").str.to_lowercase().str.strip_chars()
    frame = pl.DataFrame({"told": written})
    letters = pl.col("told").str.replace_all(r"[\W\d_]", "")
    words = pl.col("told").str.extract_all(r"[\w'-]+").list.unique().list.len()
    short = (words < _FEWEST_WORDS) | (letters.str.len_chars() < _FEWEST_LETTERS)
    same = letters.str.split("").list.unique().list.len() < _FEWEST_DIFFERENT
    return frame.select((short | same | pl.col("told").str.contains(_FILLER)).alias("hollow")).to_series()
