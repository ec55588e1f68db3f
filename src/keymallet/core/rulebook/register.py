"""The register of exemptions: who is left out of which rules, why, approved by whom, from when until when.

Text to data, with every fault found at once. What is unwise in it (no end, approved by the one it covers)
is no fault of the file: rules judge that. `exempting` applies it, `register_facts` makes rows of it.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

import msgspec

from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.toml_text import Path, TomlDocument
from keymallet.core.facts.declaration import EXEMPTION, words_of
from keymallet.core.language.clocks import AN_INSTANT, instant_of
from keymallet.core.language.literals import parse_span

KINDS = words_of(EXEMPTION, "kind")


class UseText(msgspec.Struct, rename="kebab", frozen=True):
    """One recorded use as it stands in the file."""

    at: Any
    reason: str
    by: str = ""
    until: Any = None


class TermText(msgspec.Struct, rename="kebab", frozen=True):
    """One later term of an entry as it stands in the file: what was decided of it anew."""

    decided: Any
    approved_by: str = ""
    from_: Any = msgspec.field(name="from", default=None)
    until: Any = None
    matched: int | None = None
    accounts: tuple[str, ...] = ()
    planned_until: Any = None


class ExemptionText(msgspec.Struct, rename="kebab", frozen=True):
    """One entry as it stands in the file."""

    kind: str
    accounts: tuple[str, ...]
    rules: tuple[str, ...] = ()
    gates: tuple[str, ...] = ()
    reason: str = ""
    asked_by: str = ""
    approved_by: str = ""
    decided: Any = None
    planned_until: Any = None
    from_: Any = msgspec.field(name="from", default=None)
    until: Any = None
    reviewed: Any = None
    review_every: str = ""
    matched: int | None = None
    drilled: Any = None
    watch: tuple[str, ...] = ()
    safeguards: str = ""
    used: tuple[UseText, ...] = ()
    term: tuple[TermText, ...] = ()


@dataclass(frozen=True, slots=True)
class Use:
    """A use or a drill of what an emergency entry covers: it explains sign-ins from `start` up to `end`."""

    start: datetime
    end: datetime


@dataclass(frozen=True, slots=True)
class Term:
    """What was decided of an entry at one time: from when until when, for whom, approved by whom.

    `decided` is None where it is not written down: then it is taken to have been so from the beginning.
    """

    start: datetime | None
    end: datetime | None
    accounts: tuple[str, ...]
    matched: int | None
    approved_by: str
    decided: datetime | None

    def holds(self, at: datetime) -> bool:
        """Whether it is in force at an instant."""
        return (self.start is None or self.start <= at) and (self.end is None or at < self.end)


@dataclass(frozen=True, slots=True)
class Exemption:
    """One entry. `start` is the first instant at which it holds, `end` the first at which it no longer does.

    `accounts` are patterns of `source/name`, or of a login name in any source; `rules` patterns of rule
    ids, `gates` of sign-in requirements that may leave the accounts out. `matched` is how many accounts the
    patterns matched when it was approved. Extending or widening an entry adds a term; what stands in the
    entry itself is its newest. `drills` and `used` are when it was tried, and used.
    """

    id: str
    kind: str
    accounts: tuple[str, ...]
    rules: tuple[str, ...]
    reason: str = ""
    asked_by: str = ""
    approved_by: str = ""
    start: datetime | None = None
    end: datetime | None = None
    reviewed: datetime | None = None
    review_every: timedelta | None = None
    matched: int | None = None
    drilled: datetime | None = None
    watch: tuple[str, ...] = ()
    safeguards: str = ""
    used: tuple[Use, ...] = ()
    drills: tuple[Use, ...] = ()
    gates: tuple[str, ...] = ()
    terms: tuple[Term, ...] = ()

    def as_of(self, at: datetime) -> Exemption | None:
        """The entry as it had been decided by an instant; None where nothing had."""
        known = tuple(term for term in self.terms if term.decided is None or term.decided <= at)
        if not known:
            return None if self.terms else self
        newest = known[-1]
        drills = tuple(drill for drill in self.drills if drill.start <= at)
        return replace(
            self,
            terms=known,
            start=known[0].start,
            end=newest.end,
            accounts=newest.accounts,
            matched=newest.matched,
            approved_by=newest.approved_by,
            drills=drills,
            drilled=max((drill.start for drill in drills), default=None),
        )

    def holds(self, at: datetime) -> bool:
        """Whether it is in force at an instant."""
        return any(term.holds(at) for term in self.in_terms)

    @property
    def in_terms(self) -> tuple[Term, ...]:
        """Its terms; one that was made without has a single one."""
        alone = Term(self.start, self.end, self.accounts, self.matched, self.approved_by, None)
        return self.terms or (alone,)


@dataclass(frozen=True, slots=True)
class Register:
    """All entries of a register, in the order of the file."""

    name: str
    exemptions: tuple[Exemption, ...] = ()

    def as_of(self, at: datetime) -> Register:
        """The register as it had been decided by an instant."""
        known = (entry.as_of(at) for entry in self.exemptions)
        return replace(self, exemptions=tuple(entry for entry in known if entry))


def read_register(text: str, name: str, clock: ZoneInfo) -> Register:
    """Read and check a register; plain dates are midnights of the clock.

    Raises KeymalletError with every fault, each with file, line and column.
    """
    document = TomlDocument(text, name)
    for key in document.data.keys() - {"exemption"}:
        hint = did_you_mean(key, ("exemption",)) or "each entry is a table: [exemption.some-id]"
        document.fault((key,), f'"{key}" is nothing a register has', hint)
    entries = document.data.get("exemption", {})
    read: list[Exemption | None] = []
    if isinstance(entries, dict):
        reader = _Reader(document, clock)
        read = [reader.entry(key, data) for key, data in entries.items()]
    else:
        document.fault(("exemption",), "the entries have to be tables", "[exemption.some-id]")
    document.raise_problems()
    return Register(name, tuple(entry for entry in read if entry))


@dataclass(frozen=True)
class _Reader:
    document: TomlDocument
    clock: ZoneInfo

    def entry(self, name: str, data: Any) -> Exemption | None:
        path: Path = ("exemption", name)
        read = self.document.read(ExemptionText, data, path)
        if read is None:
            return None
        if read.kind not in KINDS:
            hint = did_you_mean(read.kind, KINDS) or f"there are: {', '.join(KINDS)}"
            self.document.fault((*path, "kind"), f'"{read.kind}" is no kind of exemption', hint)
        for key, patterns, needed in (
            ("accounts", read.accounts, True),
            ("rules", read.rules, not read.gates),
            ("gates", read.gates, False),
        ):
            if needed and not patterns:
                self.document.fault((*path, key), f"an exemption names {key}", f'{key} = ["…"]')
            for place, pattern in enumerate(patterns):
                if not pattern.strip():
                    self.document.fault((*path, key, place), "an empty pattern matches nothing")
        start, end = (self._instant((*path, key), value) for key, value in _ends(read))
        if start and end and end <= start:
            self.document.fault(
                (*path, "until"), "it ends before it begins", "until is the first day without it"
            )
        if read.matched is not None and read.matched < 0:
            self.document.fault((*path, "matched"), "a number of accounts is not negative")
        decided = self._instant((*path, "decided"), read.decided)
        first = Term(start, end, read.accounts, read.matched, read.approved_by.strip(), decided)
        terms = (first, *self._terms(path, read, first))
        drills = self._drills((*path, "drilled"), read.drilled)
        newest = terms[-1]
        return Exemption(
            name,
            read.kind,
            newest.accounts,
            read.rules,
            read.reason.strip(),
            read.asked_by.strip(),
            newest.approved_by,
            start,
            newest.end,
            self._instant((*path, "reviewed"), read.reviewed),
            self._span((*path, "review-every"), read.review_every),
            newest.matched,
            max((drill.start for drill in drills), default=None),
            read.watch,
            read.safeguards.strip(),
            tuple(self._uses((*path, "used"), read.used)),
            tuple(drills),
            read.gates,
            terms,
        )

    def _terms(self, path: Path, read: ExemptionText, first: Term) -> Iterator[Term]:
        """The later terms, in the order in which they were decided."""
        before = first
        for place, term in enumerate(read.term):
            here: Path = (*path, "term", place)
            decided = self._instant((*here, "decided"), term.decided)
            start = self._instant((*here, "from"), term.from_) or decided
            end = self._instant((*here, "until"), term.until)
            if before.decided and decided and decided < before.decided:
                hint = "terms stand in the order in which they were decided"
                self.document.fault((*here, "decided"), "this was decided before the term above it", hint)
            if start and end and end <= start:
                self.document.fault((*here, "until"), "it ends before it begins")
            accounts = term.accounts or before.accounts
            approved_by = term.approved_by.strip() or before.approved_by
            matched = before.matched if term.matched is None else term.matched
            before = Term(start, end, accounts, matched, approved_by, decided)
            yield before

    def _drills(self, path: Path, written: Any) -> list[Use]:
        """Each drill, on the day or from the instant that is written."""
        several = isinstance(written, list)
        drills = []
        for place, value in enumerate(written if several else [written]):
            at = self._instant((*path, place) if several else path, value)
            if at is not None:
                drills.append(self._around(at, None))
        return drills

    def _uses(self, path: Path, uses: tuple[UseText, ...]) -> list[Use]:
        readable = []
        for place, use in enumerate(uses):
            at = self._instant((*path, place, "at"), use.at)
            until = self._instant((*path, place, "until"), use.until)
            if not use.reason.strip():
                self.document.fault((*path, place, "reason"), "a use needs its reason")
            if at and until and until <= at:
                self.document.fault((*path, place, "until"), "it ends before it begins")
            elif at is not None:
                readable.append(self._around(at, until))
        return readable

    def _around(self, at: datetime, until: datetime | None) -> Use:
        """What is noted of an instant explains its whole day, and the day after it where no end is noted."""
        day = at.astimezone(self.clock).replace(hour=0, minute=0, second=0, microsecond=0)
        return Use(day.astimezone(UTC), until or at + timedelta(days=1))

    def _instant(self, path: Path, value: Any) -> datetime | None:
        """A date or instant, of TOML or as text, in UTC; None if there is none."""
        if value is None:
            return None
        instant = instant_of(value, self.clock)
        if instant is None:
            self.document.fault(path, "this is no date", AN_INSTANT)
        return instant

    def _span(self, path: Path, text: str) -> timedelta | None:
        if not text:
            return None
        span = parse_span(text)
        if span is None:
            self.document.fault(path, f'"{text}" is no length of time', 'like "180d"')
        return span


def _ends(read: ExemptionText) -> tuple[tuple[str, Any], tuple[str, Any]]:
    return ("from", read.from_), ("until", read.until)
