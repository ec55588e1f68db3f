"""The register of exemptions: who is left out of which rules, why, by whose leave, from when until when.

Text to data, with every fault found at once. What is unwise in it (no end, approved by the one it covers)
is no fault of the file: rules judge that. `exempting` applies it, `register_facts` makes rows of it.
"""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from datetime import datetime, timedelta
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


class ExemptionText(msgspec.Struct, rename="kebab", frozen=True):
    """One entry as it stands in the file."""

    kind: str
    accounts: tuple[str, ...]
    rules: tuple[str, ...]
    reason: str = ""
    asked_by: str = ""
    approved_by: str = ""
    from_: Any = msgspec.field(name="from", default=None)
    until: Any = None
    reviewed: Any = None
    review_every: str = ""
    matched: int | None = None
    drilled: Any = None
    watch: tuple[str, ...] = ()
    safeguards: str = ""
    used: tuple[UseText, ...] = ()


@dataclass(frozen=True, slots=True)
class Use:
    """A use of what an emergency entry covers, written down with its reason."""

    at: datetime
    reason: str
    by: str = ""


@dataclass(frozen=True, slots=True)
class Exemption:
    """One entry. `start` is the first instant at which it holds, `end` the first at which it no longer does.

    `accounts` are patterns of `source/name`, or of a login name in any source; `rules` patterns of rule
    ids. `matched` is how many accounts the patterns matched when it was approved.
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

    def holds(self, at: datetime) -> bool:
        """Whether it is in force at an instant."""
        return (self.start is None or self.start <= at) and (self.end is None or at < self.end)


@dataclass(frozen=True, slots=True)
class Register:
    """All entries of a register, in the order of the file."""

    name: str
    digest: str
    exemptions: tuple[Exemption, ...] = ()


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
    digest = hashlib.sha256(text.encode()).hexdigest()
    return Register(name, digest, tuple(entry for entry in read if entry))


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
        for key, patterns in (("accounts", read.accounts), ("rules", read.rules)):
            if not patterns:
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
        return Exemption(
            name,
            read.kind,
            read.accounts,
            read.rules,
            read.reason.strip(),
            read.asked_by.strip(),
            read.approved_by.strip(),
            start,
            end,
            self._instant((*path, "reviewed"), read.reviewed),
            self._span((*path, "review-every"), read.review_every),
            read.matched,
            self._instant((*path, "drilled"), read.drilled),
            read.watch,
            read.safeguards.strip(),
            tuple(self._uses((*path, "used"), read.used)),
        )

    def _uses(self, path: Path, uses: tuple[UseText, ...]) -> list[Use]:
        readable = []
        for place, use in enumerate(uses):
            at = self._instant((*path, place, "at"), use.at)
            if at is not None:
                readable.append(Use(at, use.reason.strip(), use.by.strip()))
        return readable

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
