"""The states in which a finding can be, and what can have brought it there."""

from __future__ import annotations

from enum import StrEnum


class State(StrEnum):
    """The life of a finding, as runs see it; each with its word in outputs."""

    NEW = "new"
    OPEN = "open"
    LATE = "late"
    BACK = "back"
    EXEMPTION_ENDED = "exemption ended"
    EXEMPT = "exempt"
    NOT_SEEN = "not seen"
    MENDED = "mended"
    ENDED_BY_TIME = "ended by time"
    RULE_CHANGED = "rule changed"
    ACCOUNT_GONE = "account gone"
    ENDED = "ended"

    @property
    def meaning(self) -> str:
        """What it means, for people."""
        return _MEANINGS[self]


_MEANINGS = {
    State.NEW: "in breach for the first time",
    State.OPEN: "in breach before as well, and within its time",
    State.LATE: "still in breach past its due date",
    State.BACK: "in breach again, after it had ended",
    State.EXEMPTION_ENDED: "in breach, and no exemption covers it any longer",
    State.EXEMPT: "in breach, and an exemption covers it",
    State.NOT_SEEN: "was in breach; its source was not read, not whole, or its facts are unknown now",
    State.MENDED: "the facts changed, and it is met or no longer required",
    State.ENDED_BY_TIME: "only time ended it",
    State.RULE_CHANGED: "another rulebook ended it, not another fact",
    State.ACCOUNT_GONE: "the account was deleted, in a source that was read whole",
    State.ENDED: "no longer in breach; why is not known",
}

BROKEN = (State.NEW, State.OPEN, State.LATE, State.BACK, State.EXEMPTION_ENDED)
"""In breach now."""
LASTING = (*BROKEN, State.EXEMPT, State.NOT_SEEN)
"""Not over: what the next run has to account for."""
ENDS = (State.MENDED, State.ENDED_BY_TIME, State.RULE_CHANGED, State.ACCOUNT_GONE, State.ENDED)
"""Over, until it is back."""


class Cause(StrEnum):
    """What made a finding change its state, found by judging step by step; in the order of the steps."""

    FIRST_RUN = "first run"
    PROGRAM = "program"
    TIME = "time alone"
    RULEBOOK = "rulebook"
    REGISTER = "register"
    FACTS = "facts"
    NOT_READ = "source not read"
    UNKNOWN = "facts unknown"
    NOT_KNOWN = "not known"

    @property
    def meaning(self) -> str:
        """What it means, for people."""
        return _CAUSES[self]


_CAUSES = {
    Cause.FIRST_RUN: "the logbook begins with this run",
    Cause.PROGRAM: "another version of this program judges otherwise",
    Cause.TIME: "nothing changed but the instant",
    Cause.RULEBOOK: "the rulebook changed",
    Cause.REGISTER: "the register of exemptions changed",
    Cause.FACTS: "what the sources say changed",
    Cause.NOT_READ: "its source was not read, or not whole",
    Cause.UNKNOWN: "what it rests on is unknown now",
    Cause.NOT_KNOWN: "the evidence of the run before is no longer there",
}
