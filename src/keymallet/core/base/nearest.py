"""Suggests what somebody may have meant by a word that is not known."""

from __future__ import annotations

import difflib
from collections.abc import Iterable


def did_you_mean(word: str, known: Iterable[str]) -> str:
    """Return `did you mean "x"?` for the nearest known word, or an empty string if none is near."""
    candidates = sorted(set(known))
    folded = {candidate.lower(): candidate for candidate in reversed(candidates)}
    near = difflib.get_close_matches(word.lower(), folded, n=1, cutoff=0.6)
    return f'did you mean "{folded[near[0]]}"?' if near else ""


def article(noun: str) -> str:
    """The noun with its article: `an account`, `a key`."""
    return f"an {noun}" if noun[0] in "aeiou" else f"a {noun}"
