"""All that a judging takes, opened as the options of a command name it."""

from __future__ import annotations

import argparse
from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from functools import cached_property
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

from keymallet.commands.books import open_register, rulebook_of
from keymallet.commands.gaps import of_folder, of_judgement, of_snapshot, sorted_out
from keymallet.commands.opening import instant, open_estate
from keymallet.core.base.problems import fail
from keymallet.core.evaluating.elsewhere import Elsewhere
from keymallet.core.explaining.unlocking import Unlock
from keymallet.core.facts.declaration import ACCOUNT
from keymallet.core.facts.evidence import Evidence
from keymallet.core.facts.gaps import Gap
from keymallet.core.history.answerers import FACTS_USED
from keymallet.core.history.identity import facts_known_by
from keymallet.core.judging.judge import Judgement, judge
from keymallet.core.judging.register_facts import facts_for
from keymallet.core.judging.run import Run
from keymallet.core.language.typed import Typed
from keymallet.core.rulebook.model import Rulebook, Severity
from keymallet.core.rulebook.register import Register
from keymallet.sources.estate import Accepted, Estate
from keymallet.sources.rulebooks import digest_of
from keymallet.store.newest import Found, newest_of
from keymallet.store.snapshot import Snapshot, read_snapshot


@dataclass(frozen=True)
class JudgingInputs:
    """All that a judging takes."""

    organisation: str
    clock: ZoneInfo
    at: datetime
    snapshot: Snapshot
    rulebook: Rulebook
    register: Register | None
    accepted: tuple[Accepted, ...]
    found_gaps: tuple[Gap, ...]
    remarks: tuple[str, ...] = ()
    unlocks: tuple[Unlock, ...] = ()
    estate: Estate | None = None

    @cached_property
    def book_files(self) -> dict[str, str]:
        """The SHA-256 of the rulebook's file, and of those it includes, by name."""
        return {name: digest_of(name) for name in self.rulebook.files}

    @property
    def digests(self) -> dict[str, Any]:
        """What an answer rests on: digests of the rulebook's files, of the register and of the snapshot."""
        register = {self.register.name: digest_of(self.register.name)} if self.register else {}
        return {"rulebook": self.book_files, "register": register, "snapshot": self.snapshot.digest}

    @property
    def gaps(self) -> list[Gap]:
        """What is not known of the evidence, whatever it is judged by; but for what the estate accepts."""
        return sorted_out(self.found_gaps, self.accepted, self.at)[0]

    def evidence(
        self,
        asked: Iterable[tuple[str, Typed]] | None = None,
        also: Mapping[str, Collection[str]] | None = None,
    ) -> Evidence:
        """The snapshot's tables; with `asked`, the columns that these expressions and the register need.

        `also` are facts, by table, that are wanted besides.
        """
        if asked is None:
            return self.snapshot.evidence()
        return self.snapshot.evidence(facts_for(asked, also or {}, with_register=self.register is not None))

    def evidence_with_history(self) -> Evidence:
        """The columns that the rulebook and the register need, and those by which findings are known."""
        asked = self.rulebook.expressions()
        wanted = history_facts(self.rulebook)
        return self.snapshot.evidence(facts_for(asked, wanted, with_register=self.register is not None))

    def judge(
        self,
        evidence: Evidence,
        book: Rulebook | None = None,
        at: datetime | None = None,
        elsewhere: Elsewhere | None = None,
    ) -> Judgement:
        """Judge by the case's own book and instant, or by others, with the register in force.

        If the evidence is of one shard, `elsewhere` is what holds in the others.
        """
        return judge(evidence, book or self.rulebook, at or self.at, self.clock, self.register, elsewhere)

    def run(self, judgement: Judgement, fail_on: Severity | None = None) -> Run:
        """What outputs have to carry about this judging; gravity of `fail_on` decides how it ends."""
        gaps, accepted = sorted_out(
            [*self.found_gaps, *of_judgement(judgement, fail_on)], self.accepted, self.at
        )
        manifest = self.snapshot.manifest
        return Run(
            organisation=self.organisation,
            at=self.at,
            clock=self.clock,
            rulebook_title=self.rulebook.title,
            rulebook_edition=self.rulebook.edition,
            rulebook_digest=next(iter(self.book_files.values())),
            rulebook_files=self.book_files,
            register_file=self.register.name if self.register else "",
            register_digest=digest_of(self.register.name) if self.register else "",
            snapshot_digest=self.snapshot.digest,
            read_at=manifest.read_at,
            sources=len(manifest.sources),
            accounts=manifest.tables[ACCOUNT.name].rows,
            counts=judgement.counts(),
            refused=self.snapshot.refused,
            unreadable=self.snapshot.unreadable,
            gaps=gaps,
            accepted=accepted,
        )


def history_facts(book: Rulebook) -> dict[str, set[str]]:
    """The facts by which findings are known again, and whose they are."""
    wanted = facts_known_by(book)
    for table, facts in FACTS_USED.items():
        wanted.setdefault(table, set()).update(facts)
    return wanted


def open_inputs(
    options: argparse.Namespace, *, with_register: bool = True, of_planned: bool = False
) -> JudgingInputs:
    """Open what the options name; reads first if the estate has no snapshot yet.

    The rulebook is that of what exists; with `of_planned`, its rules on accounts about to be made besides.
    """
    # A snapshot and a rulebook named outright can be judged without an estate file. Where there is one, it
    # counts all the same: to name these two must not lose its register, nor what it says of stale sources.
    alone = options.snapshot and options.rulebook and not Path(options.estate).exists()
    estate = None if alone else open_estate(options.estate)
    rulebook = rulebook_of(options.rulebook, estate)
    rulebook = rulebook if of_planned else rulebook.of_what_exists
    if options.snapshot:
        snapshot = read_snapshot(Path(options.snapshot))
        if estate is not None and snapshot.manifest.estate != estate.identity:
            raise fail(
                f"this snapshot is of another estate: {snapshot.manifest.organisation},"
                f" {snapshot.manifest.estate}",
                file=options.snapshot,
                hint=f"name its estate file with --estate; {options.estate} is {estate.identity}",
            )
        clock = estate.clock if estate else ZoneInfo(snapshot.manifest.clock)
        at = instant(options.at, clock)
        found = Found(snapshot)
    else:
        assert estate is not None
        clock = estate.clock
        at = instant(options.at, clock)
        found = newest_of(estate.snapshots, estate.identity, at)
        if found.snapshot is None:
            found = replace(found, snapshot=_first_snapshot(estate))
            at = instant(options.at, clock)
        assert found.snapshot is not None
        snapshot = found.snapshot
    gaps = [*of_snapshot(snapshot, estate, at)]
    if estate is not None and not options.snapshot:
        gaps += of_folder(found, estate)
    organisation = estate.organisation if estate else snapshot.manifest.organisation
    named = getattr(options, "register", None)
    file = Path(named) if named else estate.register if estate else None
    register = open_register(file, clock) if file and with_register else None
    accepted = estate.accepted if estate else ()
    return JudgingInputs(
        organisation,
        clock,
        at,
        snapshot,
        rulebook,
        register,
        accepted,
        tuple(gaps),
        tuple(found.passed_over),
        estate.unlocks if estate else (),
        estate,
    )


def _first_snapshot(estate: Estate) -> Snapshot:
    """Read the sources, where that was never done."""
    from keymallet.commands.taking_in import read_into_snapshot

    return read_into_snapshot(estate, datetime.now(UTC))
