"""What every output has to carry about the run it shows."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Protocol
from zoneinfo import ZoneInfo

from keymallet.core.facts.gaps import AcceptedGap, Gap
from keymallet.core.judging.judge import RuleCount
from keymallet.core.rulebook.model import Severity


class Occasion(Protocol):
    """Who was judged, and when: all that figures and calendars ask of a judging."""

    @property
    def organisation(self) -> str:
        """Whose accounts were judged."""

    @property
    def at(self) -> datetime:
        """The instant that was judged at."""

    @property
    def clock(self) -> ZoneInfo:
        """The clock that instants are shown by."""


@dataclass(frozen=True)
class Run:
    """One judging: who, when, by which book, on which evidence, and how it came out.

    `gaps` says why the evidence is incomplete; empty if it is whole. `accepted` are gaps the estate accepts.
    `rulebook_files` are the SHA-256 of the book and of what it includes, by their names, the book first;
    `register_file` is empty where there is no register.
    """

    organisation: str
    at: datetime
    clock: ZoneInfo
    rulebook_title: str
    rulebook_edition: str
    rulebook_digest: str
    rulebook_files: dict[str, str]
    register_file: str
    register_digest: str
    snapshot_digest: str
    read_at: datetime
    sources: int
    accounts: int
    counts: list[RuleCount]
    refused: int
    unreadable: int
    gaps: list[Gap]
    accepted: list[AcceptedGap]

    def breaches_at_or_above(self, severity: Severity) -> int:
        """How many breaches are at least this grave."""
        return sum(count.breach for count in self.counts if count.rule.severity >= severity)

    @property
    def breaches(self) -> int:
        """All breaches."""
        return sum(count.breach for count in self.counts)

    @property
    def pending(self) -> int:
        """All breaches that are still under grace."""
        return sum(count.pending for count in self.counts)

    @property
    def exempt(self) -> int:
        """All breaches that an exemption in force covers."""
        return sum(count.exempt for count in self.counts)

    @property
    def unproven(self) -> int:
        """All verdicts that could not be given."""
        return sum(count.unproven for count in self.counts)
