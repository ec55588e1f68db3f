"""What a rulebook holds once it has been read and checked: limits, terms, rules and demands on numbers."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from datetime import timedelta
from enum import IntEnum

from keymallet.core.facts.declaration import PLANNED
from keymallet.core.language.scope import Limit
from keymallet.core.language.typed import Const, Typed, limit_of


class Severity(IntEnum):
    """How bad a breach is; a higher number is worse."""

    LOW = 1
    MEDIUM = 2
    HIGH = 3
    CRITICAL = 4

    @property
    def word(self) -> str:
        """The severity as it is written in rulebooks."""
        return self.name.lower()


SEVERITIES = {severity.word: severity for severity in reversed(Severity)}

MENDS = {
    "enrol-factor": "enrol a factor",
    "remove-factor": "remove a factor",
    "change-password": "have a new password set",
    "set-end": "set an end, or move it",
    "switch-off": "switch the account off",
    "unlock": "look into the lock, then unlock",
    "renew-key": "issue a new key and revoke this one",
    "revoke-key": "revoke the key",
    "remove-grant": "take the privilege away",
    "limit-grant": "make the privilege one on request, or one with an end",
    "close-elevation": "end the elevation",
    "correct-fact": "correct what the source says",
    "assign": "find whose it is, and say so in the source",
    "change-setting": "change the system's own setting",
    "separate": "give each their own",
    "review": "look at it and decide",
}
"""The kinds of change that can end a breach, and what each means."""

TERMS_OF_TOPICS = frozenset({"system-owner"})
"""Terms that no rule needs: the topics ask for them by name."""

TOPICS = {
    "factors": "who has which factors, and who has to use them",
    "passwords": "how old passwords are, how they are stored, and which are due",
    "lockouts": "who is locked, why, and who is about to be",
    "exemptions": "what is left out of rules, approved by whom, and until when",
    "elevation": "permanent privilege, and privilege on request",
    "temporary": "accounts and credentials with an end, or without the one they need",
}
"""The topics that rules can belong to, each with what it is about."""


SEEN, SINCE = COUNTED_FROM = ("seen", "since")
"""What the time to mend is counted from: the first run that saw the breach, or when the breach began."""


@dataclass(frozen=True, slots=True)
class Demand(ABC):
    """What a rule and a tally have in common.

    `origin` is the file it stands in; `note` says what its reader has to know, such as what to hold against
    the text of a standard. `formerly` are ids it had before, the oldest first. A breach is late when
    `mend_within` has passed since a run first saw it, or with `counted_from` "since", since it began.
    """

    id: str
    title: str
    table: str
    severity: Severity
    cite: tuple[str, ...] = ()
    advice: str = ""
    mend: str = ""
    topic: str = ""
    origin: str = ""
    note: str = ""
    formerly: tuple[str, ...] = ()
    mend_within: timedelta | None = None
    counted_from: str = SEEN

    @property
    @abstractmethod
    def expressions(self) -> tuple[Typed, ...]:
        """What it asks of each row of its table."""


@dataclass(frozen=True, slots=True)
class Rule(Demand):
    """On each row of `table` for which `who` is true, `must` has to be true.

    A breach that is younger than `grace` is pending. With `distinct`, `must` is that a value is not shared.
    """

    who: Typed = field(kw_only=True)
    must: Typed = field(kw_only=True)
    grace: timedelta | None = None
    distinct: str = ""

    @property
    def expressions(self) -> tuple[Typed, ...]:
        """Whom it is for, and what must hold."""
        return (self.who, self.must)


@dataclass(frozen=True, slots=True)
class Tally(Demand):
    """The number of rows of `table` for which `count` is true has to lie from `least` to `most`.

    With `by`, so it has for each unit, or for each source, on its own.
    """

    count: Typed = field(kw_only=True)
    least: int = 0
    most: int = 0
    by: str = ""

    @property
    def expressions(self) -> tuple[Typed, ...]:
        """The one expression of a tally, with its table: what is counted."""
        return (self.count,)


@dataclass(frozen=True, slots=True)
class Origin:
    """An item of a rulebook as it was written: its text, and the file it stands in."""

    text: str
    file: str


@dataclass(frozen=True, slots=True)
class NotJudged:
    """A requirement that accounts' facts cannot tell of: which, what it asks, and why it is not judged."""

    cite: str
    asks: str
    why: str
    origin: str = ""


@dataclass(frozen=True, slots=True)
class Rulebook:
    """A rulebook that has passed every check, or several side by side.

    `remarks` say what stands in it without any use; `files` are all it is made of, `roots` those that were
    asked for.
    """

    title: str
    edition: str
    limits: dict[str, Limit]
    rules: tuple[Rule, ...]
    tallies: tuple[Tally, ...] = ()
    remarks: tuple[str, ...] = ()
    populations: Mapping[str, tuple[tuple[str, Const], ...]] = field(default_factory=dict)
    limit_origins: Mapping[str, str] = field(default_factory=dict)
    terms: Mapping[str, Origin] = field(default_factory=dict)
    not_judged: tuple[NotJudged, ...] = ()
    files: tuple[str, ...] = ()
    roots: tuple[str, ...] = ()

    @property
    def demands(self) -> tuple[Demand, ...]:
        """All rules, then all tallies."""
        return (*self.rules, *self.tallies)

    def expressions(self) -> Iterator[tuple[str, Typed]]:
        """Every expression, with the table it is asked of."""
        for demand in self.demands:
            for expression in demand.expressions:
                yield demand.table, expression

    @property
    def of_what_exists(self) -> Rulebook:
        """The book without its rules on accounts that are about to be made."""
        return self.only(lambda demand: demand.table != PLANNED.name)

    def only(self, wanted: Callable[[Demand], bool]) -> Rulebook:
        """The same book with these rules and tallies alone."""
        rules = tuple(rule for rule in self.rules if wanted(rule))
        return replace(self, rules=rules, tallies=tuple(tally for tally in self.tallies if wanted(tally)))


def rules_with_limit(rulebook: Rulebook, limit: str) -> list[str]:
    """The ids of the rules that a limit bears on."""
    return [
        rule.id
        for rule in rulebook.rules
        if any(limit_of(part) == limit for node in rule.expressions for part in node.walk())
    ]
