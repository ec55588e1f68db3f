"""The record of a run: all that it judged by and how it came out, as one JSON text whose digest names it."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

import msgspec
from blake3 import blake3

FORMAT = 1
NUMBERS = ("met", "breach", "pending", "exempt", "unproven")
"""The numbers that are kept of each rule."""
JUDGED, FAILED = "judged", "failed"


@dataclass(frozen=True)
class RunLine:
    """One run, as the index has it: `digest` of its record, `head` of the chain up to it; see `RUN`."""

    number: int
    digest: str
    previous: str
    head: str
    signature: str
    ran_at: datetime
    judged_at: datetime
    outcome: str
    code: int
    failed: str
    snapshot: str
    findings: str
    states: dict[str, int]
    pruned: bool = False

    @property
    def judged(self) -> bool:
        """Whether it came to verdicts."""
        return self.outcome == JUDGED


class TextRecord(msgspec.Struct, rename="kebab", frozen=True):
    """A text the run was judged by: its name, its SHA-256 as outputs give it, and what it is kept under."""

    name: str
    sha256: str
    blake3: str

    @classmethod
    def of(cls, name: str, data: bytes) -> TextRecord:
        """The record of a text."""
        return cls(name, hashlib.sha256(data).hexdigest(), blake3(data).hexdigest())


class BookRecord(msgspec.Struct, rename="kebab", frozen=True):
    """The rulebook: the files that were asked for, all texts they are made of, and the rules taken out."""

    title: str
    edition: str
    roots: list[str]
    texts: list[TextRecord]
    taken_out: list[str] = []


class SourceState(msgspec.Struct, rename="kebab", frozen=True):
    """How one source stood in the snapshot."""

    read_at: datetime
    accounts: int = 0
    refused: int = 0
    failed: str = ""
    incomplete: list[str] = []


class SnapshotRecord(msgspec.Struct, rename="kebab", frozen=True):
    """The snapshot that was judged: its folder's name and its digest, and how old it was."""

    folder: str
    blake3: str
    read_at: datetime
    age_seconds: int
    accounts: int
    sources: dict[str, SourceState]


class FileRecord(msgspec.Struct, rename="kebab", frozen=True):
    """Rows that belong to the run: how many, and their digest."""

    rows: int
    blake3: str


class RunRecord(msgspec.Struct, rename="kebab", frozen=True, kw_only=True):
    """One run. `previous` is the head of the chain before it, empty for the first.

    `states` counts findings by their state, `counts` findings in breach by rule, topic, unit and source.
    """

    format: int = FORMAT
    number: int = 0
    previous: str = ""
    estate: str
    organisation: str
    clock: str
    keymallet: str
    ran_at: datetime
    judged_at: datetime
    by: str
    host: str
    outcome: str
    failed: str = ""
    code: int
    fail_on: str = ""
    rulebook: BookRecord | None = None
    register: TextRecord | None = None
    snapshot: SnapshotRecord | None = None
    rules: list[dict[str, Any]] = []
    counts: dict[str, dict[str, int]] = {}
    states: dict[str, int] = {}
    gaps: list[Any] = []
    accepted_gaps: list[Any] = []
    findings: FileRecord | None = None
    transitions: FileRecord | None = None

    @property
    def texts(self) -> list[TextRecord]:
        """The texts that the run was judged by: those of the rulebook, and the register."""
        texts = [*self.rulebook.texts] if self.rulebook else []
        return [*texts, self.register] if self.register else texts

    @property
    def numbers(self) -> dict[str, tuple[int, ...]]:
        """How many of each verdict every rule came to, by its id: as `numbers_of` gives them of a judging."""
        return {rule["rule"]: tuple(rule[name] for name in NUMBERS) for rule in self.rules}


def encode(record: RunRecord) -> bytes:
    """The text of a record, of which the digest is taken."""
    return msgspec.json.format(msgspec.json.encode(record)) + b"\n"


def head_of(previous: str, digest: str) -> str:
    """The head of the chain with one more record in it: the BLAKE3 of the head before it and its digest."""
    return blake3(f"{previous}{digest}".encode()).hexdigest()


def instant_text(instant: datetime) -> str:
    """An instant as the index has it."""
    return instant.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%S.%fZ")


def instant_of(text: str) -> datetime:
    """The instant that such a text means."""
    return datetime.fromisoformat(text)
