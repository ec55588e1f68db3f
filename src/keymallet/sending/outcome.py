"""What became of something that was handed to a server."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum


class Fate(StrEnum):
    """Taken by the server; refused by it, or never handed over; or nobody can tell."""

    SENT = "sent"
    FAILED = "failed"
    IN_DOUBT = "in doubt"


@dataclass(frozen=True)
class Outcome:
    """What became of it, and why where it was not taken."""

    fate: Fate
    said: str = ""
