"""Suggests what somebody may have meant by a word that is not known."""

from __future__ import annotations

from collections.abc import Iterable

_LEAST_LIKENESS = 60
"""Of a hundred; two words are less alike than that if a third of their letters differ or more."""


def did_you_mean(word: str, known: Iterable[str]) -> str:
    """Return `did you mean "x"?` for the nearest known word, or an empty string if none is near."""
    from rapidfuzz import fuzz, process

    candidates = sorted(set(known))
    folded = {candidate.lower(): candidate for candidate in reversed(candidates)}
    nearest = process.extractOne(word.lower(), folded.keys(), scorer=fuzz.ratio, score_cutoff=_LEAST_LIKENESS)
    return f'did you mean "{folded[nearest[0]]}"?' if nearest else ""


def article(noun: str) -> str:
    """The noun with its article: `an account`, `a key`."""
    return f"an {noun}" if noun[0] in "aeiou" else f"a {noun}"
