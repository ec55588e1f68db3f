"""Snapshots: one folder each, a Parquet file for every fact table and a manifest.

One of very many accounts has a folder below that for every shard, with the files of the shard's tables. A
snapshot is written beside its place and moved there in one step, so that it is there whole or not at all,
and an earlier one is never touched.
"""

from __future__ import annotations

import os
import shutil
import tempfile
import time
from collections.abc import Collection, Iterable, Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Protocol, runtime_checkable

import msgspec
import polars as pl
from blake3 import blake3

from keymallet.core.base.problems import KeymalletError, Place, Problem, fail
from keymallet.core.facts.declaration import ACCOUNT, TABLES
from keymallet.core.facts.evidence import (
    ACCOUNT_ROW,
    SHARED_ID,
    UNREAD,
    Evidence,
    account_names,
    data_type,
    empty_frame,
    source_column,
)
from keymallet.core.facts.reading import FileRead, Reading, TableIntake
from keymallet.core.facts.shards import is_in_every_shard, together
from keymallet.store import known_names
from keymallet.store.files import sync

FORMAT, FORMAT_IN_SHARDS = 4, 5
_FORMATS = (FORMAT, FORMAT_IN_SHARDS)
MANIFEST = "manifest.json"
SUFFIX = ".parquet"
_ANOTHER = "this file is not the one that was written: its digest is another"
_SURELY_OVER = 24 * 3600  # seconds


class SourceRecord(msgspec.Struct, rename="kebab", frozen=True):
    """How one source was read."""

    read_at: datetime
    supply: dict[str, dict[str, str]]
    intake: dict[str, TableIntake]
    files: list[FileRead]
    remarks: list[str]
    incomplete: list[str] = []
    failed: str = ""
    renamed: dict[str, str] = {}
    emptied: dict[str, list[str]] = {}
    empty_files: list[str] = []
    referrals: list[str] = []
    known: dict[str, dict[str, int]] = {}
    shrunk: dict[str, int] = {}


class TableRecord(msgspec.Struct, rename="kebab", frozen=True):
    """One table of the snapshot; `digest` is of its Parquet file (BLAKE3)."""

    rows: int
    columns: list[str]
    digest: str


class _Format(msgspec.Struct):
    """What every manifest says, whatever its format."""

    format: int


class Manifest(msgspec.Struct, rename="kebab", frozen=True, omit_defaults=True):
    """What a snapshot holds and where it came from.

    `estate` is the lasting identity of the estate that was read. `number` counts the readings of it, each
    one more than the one before, which is named by the digest of its manifest (`previous`, empty for the
    first). `read_at` is the instant the sources were read as of, `ended` when the reading was over by the
    clock of the machine. `passed_over` are folders beside it that could not be told for snapshots.
    `shards` has the tables of each shard, if the snapshot is divided; then `tables` are all of them together.
    """

    format: int
    keymallet: str
    estate: str
    organisation: str
    clock: str
    number: int
    previous: str
    passed_over: list[str]
    read_at: datetime
    ended: datetime
    sources: dict[str, SourceRecord]
    tables: dict[str, TableRecord]
    shards: list[dict[str, TableRecord]] = []


@dataclass(frozen=True)
class Snapshot:
    """A snapshot on disk. `digest` is of its manifest, which holds the digests of all else."""

    folder: Path
    manifest: Manifest
    digest: str

    @property
    def refused(self) -> int:
        """Records that could not be read, over all sources and tables."""
        return sum(
            intake.refused for source in self.manifest.sources.values() for intake in source.intake.values()
        )

    @property
    def unreadable(self) -> int:
        """Cells that could not be read, over all sources and tables."""
        return sum(
            intake.unreadable
            for source in self.manifest.sources.values()
            for intake in source.intake.values()
        )

    @property
    def shards(self) -> int:
        """How many shards there are; 1 where the snapshot is not divided."""
        return len(self.manifest.shards) or 1

    def files(self) -> dict[str, TableRecord]:
        """The file of every table, as a path below the folder, and what is recorded of it."""
        divided = self.manifest.shards
        below = {shard_folder(number): tables for number, tables in enumerate(divided)}
        return {
            f"{shard}{name}{SUFFIX}": record
            for shard, tables in (below or {"": self.manifest.tables}).items()
            for name, record in tables.items()
        }

    def check(self) -> None:
        """Hold every table's file against its digest. Raises KeymalletError if one is missing or damaged."""
        for name, record in self.files().items():
            path = self.folder / name
            try:
                digest = _digest(path)
            except OSError as error:
                raise _damaged(path, str(error)) from None
            if digest != record.digest:
                raise _damaged(path, _ANOTHER)

    def evidence(self, columns: Mapping[str, set[str]] | None = None) -> Evidence:
        """The tables as evidence; with `columns`, only these tables and columns and the keys.

        Raises KeymalletError if a file is missing or damaged.
        """
        if not self.manifest.shards:
            return self._evidence("", self.manifest.tables, columns)
        return together([self.shard(number, columns) for number in range(self.shards)])

    def shard(self, number: int, columns: Mapping[str, set[str]] | None = None) -> Evidence:
        """The same of one shard, by its number from 0."""
        if not self.manifest.shards:
            return self.evidence(columns)
        return self._evidence(shard_folder(number), self.manifest.shards[number], columns)

    def without_rows(self) -> Evidence:
        """Evidence that says what each source supplies, and when it was read, and has no row."""
        sources = self.manifest.sources
        return Evidence(
            {ACCOUNT.name: empty_frame(ACCOUNT)},
            {name: record.supply for name, record in sources.items()},
            {name: record.read_at for name, record in sources.items()},
        )

    def _evidence(
        self, below: str, records: Mapping[str, TableRecord], columns: Mapping[str, set[str]] | None
    ) -> Evidence:
        names: Collection[str] = records if columns is None else {"account": set(), **columns}
        tables = {
            name: self._frame(
                f"{below}{name}{SUFFIX}",
                name,
                records[name],
                None if columns is None else {*columns.get(name, ())},
            )
            for name in names
            if name in records
        }
        for name, frame in tables.items():
            if TABLES[name].of_account and (columns is None or "account" in columns[name]):
                tables[name] = frame.with_columns(account_names(tables["account"], frame).alias("account"))
        return replace(self.without_rows(), tables=tables)

    def _frame(self, file: str, name: str, record: TableRecord, wanted: set[str] | None) -> pl.DataFrame:
        table = TABLES[name]
        keys = {"account", ACCOUNT_ROW, UNREAD, SHARED_ID, source_column(table), *table.label}
        stored = record.columns
        chosen = [column for column in stored if wanted is None or column in wanted or column in keys]
        path = self.folder / file
        try:
            digest = _digest(path)
            frame = pl.read_parquet(path, columns=chosen)
        except (OSError, ValueError, pl.exceptions.PolarsError) as error:
            raise _damaged(path, str(error).splitlines()[0]) from None
        if digest != record.digest or frame.height != record.rows:
            raise _damaged(path, _ANOTHER)
        absent = [
            pl.lit(None, dtype=data_type(column)).alias(column.name)
            for column in table.columns
            if column.name not in stored and (wanted is None or column.name in wanted | set(table.label))
        ]
        return frame.with_columns(absent)


@runtime_checkable
class InShards(Protocol):
    """Tables that come shard after shard. `accounts` is how many there are in all of them."""

    accounts: int

    def shards(self, scratch: Path) -> Iterator[dict[str, pl.DataFrame]]:
        """The tables of each shard in turn. The folder is theirs meanwhile."""

    def together(self) -> tuple[list[Reading], dict[str, pl.DataFrame]]:
        """Once all were given: how the sources were read, and the tables that all shards have alike."""


def write_snapshot(
    folder: Path,
    *,
    version: str,
    estate: str,
    organisation: str,
    clock: str,
    read_at: datetime,
    readings: Iterable[Reading] = (),
    tables: Mapping[str, pl.DataFrame] | InShards,
    before: Snapshot | None = None,
    passed_over: Iterable[str] = (),
) -> Snapshot:
    """Write a new snapshot below `folder`, to follow the one `before`.

    Tables that come in shards bring their readings with them. Raises KeymalletError if the disk does not
    take it.
    """
    try:
        folder.mkdir(parents=True, exist_ok=True)
        _clear_away_leftovers(folder)
        # Its name cannot be guessed and its mode is 0700: what stands in it is for its owner alone.
        unfinished = Path(tempfile.mkdtemp(prefix=".unfinished-", dir=folder))
        try:
            in_shards: list[dict[str, TableRecord]] = []
            if isinstance(tables, InShards):
                readings, in_shards = _write_in_shards(unfinished, tables)
                records = _all_together(in_shards)
            else:
                accounts = tables[ACCOUNT.name]
                _write_names(unfinished, accounts, accounts.height)
                records = _write_tables(unfinished, tables)
            sources = {
                reading.source: SourceRecord(
                    reading.read_at or reading.as_of or read_at,
                    reading.supply,
                    reading.intake,
                    reading.files,
                    reading.remarks,
                    reading.incomplete,
                    reading.failed,
                    reading.renamed,
                    reading.emptied,
                    reading.empty_files,
                    reading.referrals,
                    reading.known,
                    reading.shrunk,
                )
                for reading in readings
            }
            manifest = Manifest(
                FORMAT_IN_SHARDS if in_shards else FORMAT,
                version,
                estate,
                organisation,
                clock,
                before.manifest.number + 1 if before else 1,
                before.digest if before else "",
                list(passed_over),
                read_at,
                datetime.now(UTC),
                sources,
                records,
                in_shards,
            )
            _write(unfinished / MANIFEST, msgspec.json.format(msgspec.json.encode(manifest)))
            place = _free_place(folder, read_at)
            unfinished.rename(place)
            sync(folder)
        finally:
            shutil.rmtree(unfinished, ignore_errors=True)
    except OSError as error:
        raise fail(f"the snapshot cannot be written: {error.strerror or error}", file=str(folder)) from None
    return read_snapshot(place)


def _damaged(path: Path, reason: str) -> KeymalletError:
    hint = "keymallet read makes a new one"
    return fail(f"the snapshot is damaged: {reason}", file=str(path), hint=hint)


class OtherFormatError(KeymalletError):
    """A snapshot that another version of this program wrote: an older one, or a newer."""

    def __init__(self, problem: Problem, *, is_older: bool) -> None:
        super().__init__(problem)
        self.is_older = is_older


def read_snapshot(folder: Path) -> Snapshot:
    """Open a snapshot. Raises KeymalletError if the folder holds none, or one of another format."""
    path = folder / MANIFEST
    try:
        data = path.read_bytes()
        found = msgspec.json.decode(data, type=_Format).format
        manifest = msgspec.json.decode(data, type=Manifest) if found in _FORMATS else None
    except OSError:
        raise fail(
            "this is no snapshot: it has no manifest.json",
            file=str(folder),
            hint="keymallet read makes one",
        ) from None
    except msgspec.DecodeError as error:
        raise fail(
            f"the manifest cannot be read: {error}", file=str(path), hint="keymallet read makes a new one"
        ) from None
    if manifest is None:
        complaint = f"the snapshot is of format {found}, not {FORMAT}"
        problem = Problem(complaint, Place(str(path)), hint="keymallet read makes a new one")
        raise OtherFormatError(problem, is_older=found < FORMAT)
    for tables in (manifest.tables, *manifest.shards):
        if ACCOUNT.name not in tables or not tables.keys() <= TABLES.keys():
            raise _damaged(path, f"it lists {', '.join(tables) or 'no tables'}")
    if manifest.shards and _all_together(manifest.shards) != manifest.tables:
        raise _damaged(path, "its shards do not have the rows that it says there are")
    return Snapshot(folder, manifest, blake3(data).hexdigest())


def _free_place(folder: Path, read_at: datetime) -> Path:
    """A name of its own: a snapshot of the same instant is not overwritten."""
    name = f"{read_at:%Y-%m-%dT%H%M%S}Z"
    place, number = folder / name, 1
    while place.exists():
        number += 1
        place = folder / f"{name}-{number}"
    return place


def _clear_away_leftovers(folder: Path) -> None:
    """Remove what readings that were killed have left, once nobody can still be writing it."""
    for entry in folder.glob(".unfinished-*"):
        if time.time() - entry.stat().st_mtime > _SURELY_OVER:
            shutil.rmtree(entry, ignore_errors=True)


def shard_folder(number: int) -> str:
    """The folder of a shard, with the slash behind it."""
    return f"shard-{number:04}/"


def _write_in_shards(folder: Path, coming: InShards) -> tuple[list[Reading], list[dict[str, TableRecord]]]:
    """Write what comes in shards, and what comes last into each of them."""
    # Beside the shards, since there is room for these: what is left there is about as much.
    scratch = folder / "scratch"
    scratch.mkdir()

    def named() -> Iterator[dict[str, pl.DataFrame]]:
        for shard in coming.shards(scratch):
            _write_names(folder, shard[ACCOUNT.name], coming.accounts)
            yield shard

    written = _write_shards(folder, named())
    shutil.rmtree(scratch)
    readings, everywhere = coming.together()
    for number, records in enumerate(written):
        records.update(_write_tables(folder / shard_folder(number), everywhere))
    return readings, written


def _write_shards(folder: Path, shards: Iterable[Mapping[str, pl.DataFrame]]) -> list[dict[str, TableRecord]]:
    written = []
    for number, shard in enumerate(shards):
        below = folder / shard_folder(number)
        below.mkdir()
        written.append(_write_tables(below, shard))
        sync(below)
    return written


def _all_together(shards: list[dict[str, TableRecord]]) -> dict[str, TableRecord]:
    """What all shards hold; no file has all of a table, so none has its digest."""
    return {
        name: TableRecord(
            record.rows
            if is_in_every_shard(name)
            else sum(shard[name].rows for shard in shards if name in shard),
            # What could not be read is noted only in shards that have something like that.
            list(
                dict.fromkeys(column for shard in shards if name in shard for column in shard[name].columns)
            ),
            "",
        )
        for name, record in shards[0].items()
    }


def _write_tables(folder: Path, tables: Mapping[str, pl.DataFrame]) -> dict[str, TableRecord]:
    with ThreadPoolExecutor() as workers:
        written = workers.map(lambda name: _write_table(folder, name, tables[name]), tables)
        return dict(zip(tables, written, strict=True))


def _write_table(folder: Path, name: str, frame: pl.DataFrame) -> TableRecord:
    path = folder / f"{name}{SUFFIX}"
    try:
        frame.write_parquet(path, compression="lz4", statistics=False, row_group_size=131_072)
    except pl.exceptions.PolarsError as error:
        # What the system says of a disk that is full comes as a fault of the library's own.
        raise OSError(None, str(error).splitlines()[0]) from None
    sync(path)
    return TableRecord(frame.height, frame.columns, _digest(path))


def _write_names(folder: Path, accounts: pl.DataFrame, of: int) -> None:
    """Add to what a shell completes names from; no part of the evidence, nothing is judged by it.

    These accounts are some `of` so many. A name with a control character is left out: no shell could take it
    from a line.
    """
    told = ("account", "mail", "display") if of <= known_names.FEW else ("account",)
    named = [pl.col(name) for name in told if name in accounts.columns]
    printable = [pl.when(~name.str.contains(r"\p{C}")).then(name) for name in named]
    lines = accounts.select(pl.concat_str(printable, separator="\t", ignore_nulls=True)).to_series()
    with (folder / known_names.FILE).open("ab") as file:
        before = "" if file.tell() else "\n"
        file.write(f"{before}{lines.str.join(chr(10))[0] or ''}\n".encode())
        file.flush()
        os.fsync(file.fileno())


def _digest(path: Path) -> str:
    """Of a file's bytes, without holding them all."""
    return blake3(max_threads=blake3.AUTO).update_mmap(path).hexdigest()


def _write(path: Path, data: bytes) -> None:
    path.write_bytes(data)
    sync(path)
