"""The system a batch of accounts is loaded into: what it requires, takes, and gives to whom."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field


@dataclass(frozen=True)
class Gives:
    """What accounts of one sort get: those of these units, kinds and titles (patterns; none: of all).

    `groups` and `entitlements` are what they have to have; with None nothing is said of them. `more` allows
    others besides.
    """

    units: tuple[str, ...] = ()
    kinds: tuple[str, ...] = ()
    titles: tuple[str, ...] = ()
    groups: tuple[str, ...] | None = None
    entitlements: tuple[str, ...] | None = None
    more: bool = False


@dataclass(frozen=True)
class Target:
    """What is known of the target.

    `source` is its name in the estate. `required` are the facts of an account that it does not go without,
    `name_pattern` a regular expression that login names have to match as a whole. `longest` gives the
    greatest number of characters of a fact, `characters` a regular expression that the whole of a fact has to
    match, `ordered_by` the fact by which it expects the rows to rise. Of `gives`, every part that fits an
    account counts.
    """

    source: str = ""
    required: tuple[str, ...] = ()
    name_pattern: str = ""
    longest: Mapping[str, int] = field(default_factory=dict)
    characters: Mapping[str, str] = field(default_factory=dict)
    ordered_by: str = ""
    gives: tuple[Gives, ...] = ()


NOTHING_SAID = Target()
"""A target of which nothing is said."""
