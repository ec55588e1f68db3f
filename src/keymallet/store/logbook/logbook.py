"""A logbook, open: its runs, what each found, what changed between them; and taking in a new run."""

from __future__ import annotations

import io
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any

import msgspec
import polars as pl
from blake3 import blake3
from sqlalchemy import Connection, Engine, Row, func, select

from keymallet.core.base.problems import fail
from keymallet.core.facts.evidence import INSTANT
from keymallet.core.history.columns import CHANGED, ENDED
from keymallet.core.history.states import ENDS
from keymallet.store.logbook.connecting import Location, connect, told, writing
from keymallet.store.logbook.contents import Contents
from keymallet.store.logbook.records import (
    JUDGED,
    FileRecord,
    RunLine,
    RunRecord,
    encode,
    head_of,
    instant_of,
    instant_text,
)
from keymallet.store.logbook.set_aside import SetAside
from keymallet.store.logbook.tables import RUN, TRANSITION

RECORD, FINDINGS, TEXT = ".json", ".parquet", ".toml"
_AT_ONCE = 5_000
"""So many ids are asked for in one statement: fewer than either database allows."""

TRANSITIONS = {
    "run": pl.Int64(),
    "finding-id": pl.String(),
    **dict.fromkeys(
        ("rule-key", "account-key", "row-key", "rule", "severity", "account", "subject", "source", "unit"),
        pl.String(),
    ),
    **dict.fromkeys(("answerer", "was", "state", "cause"), pl.String()),
    "changed": CHANGED,
    "first-seen": INSTANT,
    "times-back": pl.Int64(),
}
"""The columns of transitions as they come out of the logbook."""


class Logbook:
    """A logbook. Every method raises KeymalletError where the database or a file does not do its part."""

    def __init__(self, location: Location, engine: Engine, sign: Callable[[str], str] | None = None) -> None:
        self.location = location
        self.sign = sign
        self.contents = Contents(location.files)
        self.set_aside = SetAside(location.files)
        self._engine = engine

    @classmethod
    def open(
        cls,
        location: Location,
        estate: str,
        organisation: str,
        *,
        make: bool = False,
        is_named: bool = True,
        sign: Callable[[str], str] | None = None,
    ) -> Logbook:
        """Open a logbook; with `make`, make it where there is none. `sign` signs the head of each new run.

        For `is_named` see `connecting.connect`.
        """
        return cls(location, connect(location, estate, organisation, make=make, is_named=is_named), sign)

    # runs

    def runs(self) -> list[RunLine]:
        """All runs, the oldest first."""
        with self.reading() as connection:
            return [_line(row) for row in connection.execute(select(RUN).order_by(RUN.c.number))]

    def last(self, *, judged: bool = True) -> RunLine | None:
        """The last run that came to verdicts; or the last of all."""
        with self.reading() as connection:
            return last_run(connection, judged=judged)

    def record(self, run: RunLine) -> RunRecord:
        """The record of a run."""
        data = self.contents.get(run.digest, RECORD)
        return msgspec.json.decode(data, type=RunRecord)

    def findings(self, run: RunLine, columns: Sequence[str] | None = None) -> pl.DataFrame:
        """The findings of a run, as it had them. Raises KeymalletError if they were pruned."""
        if run.pruned:
            hint = "keymallet logbook list says of which runs they are kept"
            raise fail(f"the findings of run {run.number} are no longer kept", hint=hint)
        data = self.contents.get(run.findings, FINDINGS)
        return pl.read_parquet(io.BytesIO(data), columns=None if columns is None else list(columns))

    def text(self, digest: str) -> str:
        """A rulebook's or register's text."""
        return self.contents.get(digest, TEXT).decode()

    # changes

    def transitions(self, run: RunLine) -> pl.DataFrame:
        """What changed with a run, as TRANSITIONS."""
        with self.reading() as connection:
            rows = connection.execute(
                select(TRANSITION).where(TRANSITION.c.run == run.number).order_by(TRANSITION.c.finding)
            )
            return _transitions(rows)

    def life(self, finding: str) -> pl.DataFrame:
        """All changes of one finding's state, the earliest first, as TRANSITIONS."""
        with self.reading() as connection:
            rows = connection.execute(
                select(TRANSITION).where(TRANSITION.c.finding == finding).order_by(TRANSITION.c.run)
            )
            return _transitions(rows)

    def called(self, beginning: str, most: int = 10) -> list[str]:
        """The ids of findings with changes that begin so."""
        with self.reading() as connection:
            found = connection.execute(
                select(TRANSITION.c.finding)
                .where(TRANSITION.c.finding.startswith(beginning, autoescape=True))
                .distinct()
                .limit(most)
            )
            return [str(row.finding) for row in found]

    # writing

    @contextmanager
    def taking_in(self) -> Iterator[Writer]:
        """Take in one run, while no other process does; what is raised within leaves everything as it was.

        Failed runs that were set aside are entered before it.
        """
        with self.alone() as connection:
            self.set_aside.prepare()
            writer = Writer(self, connection)
            waiting = self.set_aside.records()
            for record in waiting:
                writer.append(record)
            yield writer
        if waiting:
            self.set_aside.clear()

    @contextmanager
    def alone(self) -> Iterator[Connection]:
        """A transaction that no other writer is in at the same time."""
        with told(self.location), writing(self._engine) as connection:
            yield connection

    @contextmanager
    def reading(self) -> Iterator[Connection]:
        """A transaction that reads alone."""
        with told(self.location), self._engine.begin() as connection:
            yield connection


class Writer:
    """Takes in one run."""

    def __init__(self, logbook: Logbook, connection: Connection) -> None:
        self.logbook = logbook
        self._connection = connection

    def last(self) -> RunLine | None:
        """The last run that came to verdicts."""
        return last_run(self._connection, judged=True)

    def ended(self, findings: pl.Series) -> pl.DataFrame:
        """Of these ids those that ended in an earlier run, as ENDED."""
        rows: list[tuple[str, Any, int]] = []
        ids = findings.to_list()
        for start in range(0, len(ids), _AT_ONCE):
            asked = (
                select(
                    TRANSITION.c.finding,
                    func.min(TRANSITION.c.first_seen).label("first_seen"),
                    func.max(TRANSITION.c.times_back).label("times_back"),
                )
                .where(TRANSITION.c.finding.in_(ids[start : start + _AT_ONCE]))
                .where(TRANSITION.c.state.in_([str(state) for state in ENDS]))
                .group_by(TRANSITION.c.finding)
            )
            for row in self._connection.execute(asked):
                rows.append((row.finding, row.first_seen and instant_of(row.first_seen), row.times_back or 0))
        return pl.DataFrame(rows, schema=ENDED, orient="row")

    def keep_text(self, data: bytes) -> str:
        """Keep a rulebook's or register's text, and return its digest."""
        return self.logbook.contents.put(data, TEXT)

    def append(
        self, record: RunRecord, findings: pl.DataFrame | None = None, changes: pl.DataFrame | None = None
    ) -> RunLine:
        """Put a run at the end of the chain: its findings and changes first, then the record that names them.

        `changes` has TRANSITIONS but for `run`.
        """
        head = last_run(self._connection, judged=False)
        number = head.number + 1 if head else 1
        kept = changed = None
        if findings is not None:
            buffer = io.BytesIO()
            findings.write_parquet(buffer, compression="zstd", statistics=False)
            kept = FileRecord(findings.height, self.logbook.contents.put(buffer.getvalue(), FINDINGS))
        if changes is not None:
            rows = _rows(changes, number)
            changed = FileRecord(len(rows), transitions_digest(rows))
            if rows:
                self._connection.execute(TRANSITION.insert(), rows)
        record = msgspec.structs.replace(
            record,
            number=number,
            previous=head.head if head else "",
            findings=kept,
            transitions=changed,
        )
        digest = self.logbook.contents.put(encode(record), RECORD)
        values = index_values(record, digest)
        values["signature"] = sign(values["head"]) if (sign := self.logbook.sign) else ""
        self._connection.execute(RUN.insert().values(**values))
        return _line_of(values)


def index_values(record: RunRecord, digest: str) -> dict[str, Any]:
    """What the index says of a run when it is new, but for its signature."""
    return {
        "number": record.number,
        "digest": digest,
        "previous": record.previous,
        "head": head_of(record.previous, digest),
        "ran_at": instant_text(record.ran_at),
        "judged_at": instant_text(record.judged_at),
        "outcome": record.outcome,
        "code": record.code,
        "failed": record.failed,
        "snapshot": record.snapshot.blake3 if record.snapshot else "",
        "findings": record.findings.blake3 if record.findings else "",
        "numbers": msgspec.json.encode(record.states).decode(),
        "pruned": False,
    }


def last_run(connection: Connection, *, judged: bool) -> RunLine | None:
    """The last run, or the last that came to verdicts."""
    asked = select(RUN).order_by(RUN.c.number.desc()).limit(1)
    row = connection.execute(asked.where(RUN.c.outcome == JUDGED) if judged else asked).first()
    return _line(row) if row else None


def _line(row: Row[Any]) -> RunLine:
    return _line_of(row._asdict())


def _line_of(values: dict[str, Any]) -> RunLine:
    told = {name: values[name] for name in values if name not in ("numbers", "ran_at", "judged_at")}
    return RunLine(
        **told,
        ran_at=instant_of(values["ran_at"]),
        judged_at=instant_of(values["judged_at"]),
        states=msgspec.json.decode(values["numbers"], type=dict[str, int]),
    )


def _rows(changes: pl.DataFrame, number: int) -> list[dict[str, Any]]:
    """Changes as the index takes them, in the order of their findings."""
    named = [name for name in TRANSITIONS if name not in ("run", "changed", "first-seen")]
    rows = []
    for row in changes.sort("finding-id").iter_rows(named=True):
        values = {"finding" if name == "finding-id" else name.replace("-", "_"): row[name] for name in named}
        values["run"] = number
        values["changed"] = msgspec.json.encode(row["changed"] or []).decode()
        values["first_seen"] = row["first-seen"] and instant_text(row["first-seen"])
        rows.append(values)
    return rows


def transitions_digest(rows: Iterable[dict[str, Any]]) -> str:
    """The digest of changes as the index has them: of one JSON line for each, in the order of their ids."""
    digest = blake3()
    for row in rows:
        # The database's names of columns are no plain texts.
        digest.update(msgspec.json.encode(sorted((str(name), value) for name, value in row.items())) + b"\n")
    return digest.hexdigest()


def _transitions(rows: Iterable[Row[Any]]) -> pl.DataFrame:
    found = []
    for row in rows:
        values = {name.replace("_", "-"): value for name, value in row._asdict().items()}
        values["finding-id"] = values.pop("finding")
        values["changed"] = msgspec.json.decode(values["changed"])
        values["first-seen"] = values["first-seen"] and instant_of(values["first-seen"])
        found.append(values)
    return (
        pl.DataFrame(found, schema=TRANSITIONS, orient="row") if found else pl.DataFrame(schema=TRANSITIONS)
    )
