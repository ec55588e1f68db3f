"""Writing a run into the logbook, with what changed since the one before; and what outputs say of it."""

from __future__ import annotations

import getpass
import os
import socket
from collections.abc import Callable, Collection
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import cached_property
from pathlib import Path

import msgspec
import polars as pl
from polars import DataFrame

from keymallet import __version__
from keymallet.commands.exit_codes import FAILED as COULD_NOT
from keymallet.commands.judging_inputs import JudgingInputs, history_facts
from keymallet.commands.logbooks import (
    files_of,
    open_logbook,
    register_of_run,
    rulebook_of_run,
    same_register,
    same_texts,
    snapshot_of_run,
)
from keymallet.commands.opening import open_estate
from keymallet.commands.wholeness import wholeness
from keymallet.core.base.problems import KeymalletError
from keymallet.core.facts.declaration import ACCOUNT
from keymallet.core.history.added import added, with_lives
from keymallet.core.history.columns import FINDING
from keymallet.core.history.details import Side, details
from keymallet.core.history.lives import Lives, first_lives, follow
from keymallet.core.history.observed import Observed, observe
from keymallet.core.history.run_table import run_table
from keymallet.core.history.states import State
from keymallet.core.history.steps import Judged, Sameness, Steps
from keymallet.core.judging.judge import Judgement
from keymallet.core.judging.register_facts import facts_for
from keymallet.core.judging.run import Run
from keymallet.core.rulebook.model import Rulebook
from keymallet.outputs.run_record import run_record
from keymallet.sources.rulebooks import read_book
from keymallet.store.logbook.connecting import OtherEstateError
from keymallet.store.logbook.logbook import TRANSITIONS, Logbook, Writer
from keymallet.store.logbook.records import (
    FAILED,
    JUDGED,
    BookRecord,
    RunLine,
    RunRecord,
    SnapshotRecord,
    SourceState,
    TextRecord,
)
from keymallet.store.logbook.set_aside import SetAside
from keymallet.store.snapshot import Snapshot


@dataclass(frozen=True)
class Recorded:
    """What the logbook has to say of a judging: `table` as `run_table` has it, `run` if it was written.

    `before` is the run before it, `failed` those in between that came to no verdicts.
    """

    table: DataFrame
    at: datetime
    run: RunLine | None = None
    before: RunLine | None = None
    failed: tuple[RunLine, ...] = ()

    def added(self, places: int) -> DataFrame:
        """The columns that findings have in outputs, of the first `places` of them: those of this judging."""
        return added(self.table.head(places), self.at)

    def with_lives(self, found: DataFrame) -> DataFrame:
        """Findings as outputs have them, with these columns."""
        return with_lives(found, self.table, self.at)


def record_run(
    inputs: JudgingInputs,
    judgement: Judgement,
    outcome: Run,
    fail_on: str,
    code: int,
    described: DataFrame | None,
) -> Recorded:
    """Write a run into the estate's logbook: whole, or with a KeymalletError nothing of it."""
    estate = inputs.estate
    assert estate is not None, "only an estate has a logbook"
    logbook = open_logbook(estate, make=True)
    with logbook.taking_in() as writer:
        last = writer.last()
        record = _record(inputs, outcome, writer, fail_on, code)
        before = logbook.findings(last) if last else None
        observed = observe(judgement, before)
        between = None
        if last is None or before is None:
            lives = first_lives(observed, judgement.at)
        else:
            between = _Between(inputs, judgement, logbook, logbook.record(last), record)
            whole = wholeness(inputs.snapshot, estate.retired, between.earlier)
            lives = follow(before, observed, between.steps, whole, writer.ended, judgement.at)
        table = run_table(observed, lives, before, judgement.at, estate.answers, described)
        changes = None
        if between is not None and before is not None:
            named = pl.concat([table, before]).select(FINDING, "subject", "answerer")
            changes = _changes(lives, named, between.details(lives, observed))
        shown = added(table, judgement.at)
        record = msgspec.structs.replace(record, states=_states(shown, lives), counts=_counts(table))
        run = writer.append(record, table, changes)
    failed = tuple(line for line in logbook.runs() if last and line.number > last.number and not line.judged)
    return Recorded(table, judgement.at, run, last, failed)


def record_failure(estate_file: str, why: str) -> None:
    """Write a failed run into the logbook, or beside it where it takes nothing; without either, nowhere."""
    try:
        estate = open_estate(estate_file)
    except KeymalletError:
        return
    if estate.logbook is None:
        return
    now = datetime.now(UTC)
    record = RunRecord(
        estate=estate.identity,
        organisation=estate.organisation,
        clock=estate.clock.key,
        keymallet=__version__,
        ran_at=now,
        judged_at=now,
        by=_user(),
        host=socket.gethostname(),
        outcome=FAILED,
        failed=why,
        code=COULD_NOT,
    )
    try:
        with open_logbook(estate, make=True).taking_in() as writer:
            writer.append(record)
    except OtherEstateError:
        return  # nothing of this estate's belongs there
    except KeymalletError:
        SetAside(files_of(estate)).note(record)


@dataclass
class _Between:
    """The way from the run before to this one, walked once it is known that something changed."""

    inputs: JudgingInputs
    judgement: Judgement
    logbook: Logbook
    past: RunRecord
    now: RunRecord
    walked: Steps | None = None

    def steps(self, keys: Collection[str]) -> Steps | None:
        """Judge step by step by the rules of these keys; None where the old evidence is no longer there."""
        snapshot = self.earlier
        if snapshot is None or self.now.snapshot is None:
            return None
        same = Sameness(
            rulebook=same_texts(self.past, self.now),
            register=same_register(self.past, self.now),
            evidence=snapshot.digest == self.now.snapshot.blake3,
            program=self.past.keymallet == self.now.keymallet,
        )
        inputs = self.inputs
        # What is the same was read for this run already.
        book = inputs.rulebook if same.rulebook else rulebook_of_run(self.logbook, self.past)
        register = inputs.register if same.register else register_of_run(self.logbook, self.past)
        wanted = history_facts(book)
        for table, facts in history_facts(inputs.rulebook).items():
            wanted.setdefault(table, set()).update(facts)
        asked = [*book.expressions(), *inputs.rulebook.expressions()]
        try:
            evidence = snapshot.evidence(facts_for(asked, wanted, with_register=True))
        except KeymalletError:
            return None  # damaged is no better than gone
        before = Judged(evidence, book, register, self.past.judged_at)
        self.walked = Steps.between(before, self.judgement, inputs.register, same, inputs.clock, keys)
        return self.walked

    @cached_property
    def earlier(self) -> Snapshot | None:
        """What the run before rested on, if it is still there."""
        assert self.inputs.estate is not None
        assert self.past.snapshot is not None
        if self.past.snapshot.blake3 == self.inputs.snapshot.digest:
            return self.inputs.snapshot
        return snapshot_of_run(self.inputs.estate.snapshots, self.past.snapshot)

    def details(self, lives: Lives, observed: Observed) -> pl.Series:
        """What exactly changed with each transition."""
        steps = self.walked
        if steps is None:
            nothing = pl.Series("changed", [[]], dtype=TRANSITIONS["changed"])
            return nothing.new_from_index(0, lives.transitions.height)
        old = observed.identities_before(steps.old)
        before = Side(old, steps.before.rulebook, steps.before.register)
        after = Side(observed.identities, self.inputs.rulebook, self.inputs.register)
        return details(lives.transitions, before, after, self.inputs.clock)


def _changes(lives: Lives, named: DataFrame, changed: pl.Series) -> DataFrame:
    """The transitions of a run as the logbook takes them; `named` says on what and whose the findings are."""
    more = named.unique(FINDING, keep="first", maintain_order=True)
    frame = lives.transitions.with_columns(changed.alias("changed"))
    frame = frame.join(more, on=FINDING, how="left", maintain_order="left")
    return frame.select([name for name in TRANSITIONS if name != "run"])


def _states(shown: DataFrame, lives: Lives) -> dict[str, int]:
    """How many findings are in each state now, and how many ended with this run; late ones as such."""
    counted = shown["state"].drop_nulls().value_counts().iter_rows()
    states = {str(name): int(number) for name, number in counted}
    ended = lives.transitions.filter(~pl.col("state").is_in(list(states)))["state"].value_counts().iter_rows()
    states |= {str(name): int(number) for name, number in ended}
    states["past due"] = int(shown["late-by"].count())
    return {name: states[name] for name in [*map(str, State), "past due"] if name in states}


def _counts(table: DataFrame) -> dict[str, dict[str, int]]:
    broken = table.filter(pl.col("verdict") == "breach")
    return {
        name: {
            str(key): int(number)
            for key, number in broken[name].drop_nulls().value_counts(sort=True).iter_rows()
        }
        for name in ("unit", "source", "severity", "answerer")
    }


def _record(inputs: JudgingInputs, outcome: Run, writer: Writer, fail_on: str, code: int) -> RunRecord:
    estate = inputs.estate
    assert estate is not None
    manifest = inputs.snapshot.manifest
    told = run_record(outcome)
    return RunRecord(
        estate=estate.identity,
        organisation=inputs.organisation,
        clock=inputs.clock.key,
        keymallet=__version__,
        ran_at=datetime.now(UTC),
        judged_at=inputs.at,
        by=_user(),
        host=socket.gethostname(),
        outcome=JUDGED,
        code=code,
        fail_on=fail_on,
        rulebook=_book(inputs.rulebook, writer.keep_text, [each.over for each in estate.preferred]),
        register=_register(inputs, writer.keep_text),
        snapshot=SnapshotRecord(
            inputs.snapshot.folder.name,
            inputs.snapshot.digest,
            manifest.read_at,
            int((inputs.at - manifest.read_at).total_seconds()),
            outcome.accounts,
            {
                name: SourceState(
                    source.read_at,
                    source.intake[ACCOUNT.name].read if ACCOUNT.name in source.intake else 0,
                    sum(intake.refused for intake in source.intake.values()),
                    source.failed,
                    source.incomplete,
                )
                for name, source in manifest.sources.items()
            },
        ),
        rules=told["rules"],
        gaps=msgspec.to_builtins(outcome.gaps),
        accepted_gaps=msgspec.to_builtins(outcome.accepted),
    )


def _book(book: Rulebook, keep: Callable[[bytes], str], taken_out: list[str]) -> BookRecord:
    texts = [_text(name, read_book(Path(name))[0].encode(), keep) for name in book.files]
    return BookRecord(book.title, book.edition, list(book.roots), texts, taken_out)


def _register(inputs: JudgingInputs, keep: Callable[[bytes], str]) -> TextRecord | None:
    if inputs.register is None:
        return None
    return _text(inputs.register.name, Path(inputs.register.name).read_bytes(), keep)


def _text(name: str, data: bytes, keep: Callable[[bytes], str]) -> TextRecord:
    keep(data)
    return TextRecord.of(name, data)


def _user() -> str:
    try:
        return getpass.getuser()
    except (KeyError, OSError, ImportError):
        return str(os.getuid())
