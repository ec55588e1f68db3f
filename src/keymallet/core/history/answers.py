"""Who answers for what: an entry of the estate."""

from __future__ import annotations

from dataclasses import dataclass

MANAGER, OWNER = "manager", "owner"
MATCHED = ("sources", "units", "kinds", "rules", "topics")
"""What an entry may name by patterns: each that it names has to match."""


@dataclass(frozen=True, slots=True)
class Answers:
    """One entry: for what, by patterns (none: for all), and who: `manager`, `owner`, or a named desk.

    The manager is that of the account's person, the owner that of the account. Where there is none, or they
    have left, the next entry is tried.
    """

    by: str
    mail: str = ""
    sources: tuple[str, ...] = ()
    units: tuple[str, ...] = ()
    kinds: tuple[str, ...] = ()
    rules: tuple[str, ...] = ()
    topics: tuple[str, ...] = ()

    @property
    def is_desk(self) -> bool:
        """Whether it names a desk, and not whoever stands in the facts."""
        return self.by not in (MANAGER, OWNER)
