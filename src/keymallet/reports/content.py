"""What every report is made from: the findings of a run, and what they rest on."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from functools import cached_property
from typing import Any
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.base.listing import and_more, how_many
from keymallet.core.history.states import BROKEN, State
from keymallet.core.rulebook.model import SEVERITIES
from keymallet.outputs.values import parts_of

_BROKEN = [*map(str, BROKEN)]
_NAMED = 3
"""So many rules that could not be judged are named in the verdict."""


@dataclass(frozen=True)
class Digest:
    """Something a run rests on: what it is, what it is called, and the digest of its bytes."""

    what: str
    name: str
    digest: str


@dataclass(frozen=True)
class SourceLine:
    """How one source was read: when, how many accounts, and what was not."""

    name: str
    read_at: datetime
    accounts: int
    refused: int
    missing: tuple[str, ...]


@dataclass(frozen=True)
class RuleLine:
    """One rule: its text, the facts it rests on, how many it was asked of, and how that came out.

    `judged_nobody` says that it was unproven for all of them.
    """

    id: str
    title: str
    severity: str
    topic: str
    who: str
    must: str
    cite: tuple[str, ...]
    advice: str
    facts: tuple[str, ...]
    in_scope: int
    breach: int
    exempt: int
    unproven: int
    judged_nobody: bool = False


@dataclass(frozen=True)
class Picture:
    """A figure of a topic: its title, what it tells in words, the drawing, and the numbers behind it."""

    title: str
    sentences: tuple[str, ...]
    svg: str
    header: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]


@dataclass(frozen=True)
class Content:
    """A run as reports tell it.

    `findings` are those that are not over, in the order in which they are to be read; `changes` those whose
    state the run changed. `narrowed` says in words what the report is limited to; then it holds nothing of
    anybody else's: no counts of the whole, no sources, no pictures. `gaps` say why evidence is incomplete;
    of part of a run they only say that it is, and `gaps_of_all` how many there are.
    `ahead` are the reviews, drills and ends of exemptions that are coming, as `outputs.calendar` takes
    them. `left_out` says in a sentence what could not be shown. `places` are, by finding, the file that its
    account or row came from, and the line (0 if that cannot be told). `anew` are the findings with reasons
    as of the run, which takes judging it again; else a reason may be that of an earlier run, and says so.
    """

    organisation: str
    clock: ZoneInfo
    at: datetime
    run: int
    head: str
    keymallet: str
    rulebook: str
    edition: str
    digests: tuple[Digest, ...]
    read_at: datetime
    accounts: int
    findings: pl.DataFrame
    changes: pl.DataFrame
    rules: tuple[RuleLine, ...]
    sources: tuple[SourceLine, ...]
    gaps: tuple[str, ...]
    unproven: int
    refused: int
    gaps_of_all: int = 0
    before: tuple[int, datetime] | None = None
    narrowed: tuple[str, ...] = ()
    pictures: tuple[Picture, ...] = ()
    coming: tuple[tuple[str, int], ...] = ()
    ahead: pl.DataFrame | None = None
    exemptions: tuple[tuple[str, str, str, str], ...] = ()
    left_out: str = ""
    places: Mapping[str, tuple[str, int]] = field(default_factory=dict)
    anew: pl.DataFrame | None = None

    def to_draw(self) -> Content:
        """The same for a format that is drawn: its reasons are told as of the run, where they could be."""
        return self if self.anew is None else replace(self, findings=self.anew, anew=None)

    @cached_property
    def broken(self) -> pl.DataFrame:
        """The findings in breach."""
        return self.findings.filter(pl.col("state").is_in(_BROKEN))

    @cached_property
    def late(self) -> pl.DataFrame:
        """Those of them past their due date."""
        return self.broken.filter(pl.col("late-by").is_not_null())

    def verdict(self) -> str:
        """How it came out, in one sentence."""
        number = self.broken.height
        if not number:
            return self._nothing() + self._not_judged()
        parts = [f"{of_it:,} {word}" for word, of_it in self.by_severity().items()]
        late = self.late.height
        tail = f"; {late:,} past {'its' if late == 1 else 'their'} due date" if late else ""
        return f"{how_many(number, 'finding')} in breach: {', '.join(parts)}{tail}." + self._not_judged()

    def _nothing(self) -> str:
        """That nothing is in breach, and how sure that is; a part does not know what was not judged."""
        if self.narrowed:
            return "Of what was asked for, nothing is in breach, as far as the evidence reaches."
        if self.unproven:
            reach = f"{how_many(self.unproven, 'verdict')} could not be given"
            return f"Nothing is in breach, as far as the evidence reaches: {reach}."
        return f"Nothing is in breach{', as far as the evidence reaches' if self.gaps else ''}."

    @cached_property
    def not_judged(self) -> tuple[RuleLine, ...]:
        """The rules that could be judged for nobody whom they ask."""
        return tuple(rule for rule in self.rules if rule.judged_nobody)

    def _not_judged(self) -> str:
        """Which rules say nothing about anybody: a rule that is not mentioned is not met."""
        named = [rule.id for rule in self.not_judged]
        if not named:
            return ""
        listed = f"{', '.join(named[:_NAMED])} {and_more(len(named) - _NAMED)}".rstrip()
        return f" {how_many(len(named), 'rule')} could be judged for nobody: {listed}."

    def by_severity(self) -> dict[str, int]:
        """How many are in breach, the gravest first; without what nobody is in breach of."""
        found = self.by("severity")
        return {word: found[word] for word in SEVERITIES if word in found}

    def by(self, column: str) -> dict[str, int]:
        """How many are in breach, by the values of a column, most first."""
        counted = self.broken[column].fill_null("").value_counts(sort=True)
        return {str(value): int(number) for value, number in counted.iter_rows()}

    def states(self) -> dict[str, int]:
        """How many findings changed to each state with the run, in the order of states."""
        counted = dict(self.changes["state"].value_counts().iter_rows()) if self.changes.height else {}
        return {str(state): int(counted[str(state)]) for state in State if str(state) in counted}


def rows_of(frame: pl.DataFrame) -> Iterator[dict[str, Any]]:
    """The rows of a frame, one by one: never more than a few of them are Python's at a time."""
    for part in parts_of(frame):
        yield from part.iter_rows(named=True)


def day(instant: datetime | None, clock: ZoneInfo) -> str:
    """A day by the estate's clock; a dash where there is none."""
    return f"{instant.astimezone(clock):%Y-%m-%d}" if instant else "–"


def moment(instant: datetime, clock: ZoneInfo) -> str:
    """An instant by the estate's clock, with the clock's name."""
    return f"{instant.astimezone(clock):%Y-%m-%d %H:%M} ({clock.key})"


def who(row: dict[str, object]) -> str:
    """What a finding is on: the account, and the key, grant or person if it is on that; or all of them."""
    account, subject = row["account"] or "all accounts", row["subject"]
    return f"{account} [{subject}]" if subject else str(account)


def due_in_words(row: dict[str, object], clock: ZoneInfo) -> str:
    """By when it has to be mended, or for how long it is past that."""
    due, late = row["due"], row["late-by"]
    if not isinstance(due, datetime):
        return ""
    days = getattr(late, "days", 0)
    if late is not None:
        return f"{how_many(days, 'day')} late" if days else "late"
    return f"due {day(due, clock)}"


def basis(content: Content) -> Sequence[tuple[str, str]]:
    """What a report rests on, as pairs of what it is and what to check it by: every report carries these."""
    rows = [
        ("organisation", content.organisation),
        ("judged at", moment(content.at, content.clock)),
        ("run", f"{content.run}, head {content.head}"),
        (
            "rulebook",
            f"{content.rulebook}, edition {content.edition}" if content.edition else content.rulebook,
        ),
    ]
    rows += [(each.what, f"{each.name} {each.digest}".strip()) for each in content.digests]
    age = content.at - content.read_at
    hours = int(age.total_seconds() // 3600)
    said = (
        how_many(hours // 24, "day")
        if hours >= 48
        else how_many(hours, "hour")
        if hours
        else "less than 1 hour"
    )
    rows.append(("age of the snapshot", f"{said} (read {moment(content.read_at, content.clock)})"))
    if not content.narrowed:
        rows += [
            ("verdicts that could not be given", f"{content.unproven:,}"),
            ("records not read", f"{content.refused:,}"),
        ]
    rows.append(("gaps in the evidence", f"{content.gaps_of_all:,}" if content.gaps else "none"))
    rows.append(("made by", f"Keymallet {content.keymallet}"))
    return rows
