"""A sealed run with tokens in place of names: its tables, register, record and findings, judged again."""

from __future__ import annotations

import io
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import msgspec
import polars as pl
import tomlkit
from blake3 import blake3

from keymallet.commands.rejudging import differing_rules, judged_as_kept
from keymallet.core.explaining.findings import describe
from keymallet.core.facts.declaration import ACCOUNT, PERSON
from keymallet.core.history.columns import ANSWERER, FINDING, MAIL, NOBODY, TOLD
from keymallet.core.history.identity import finding_ids
from keymallet.core.history.observed import observe
from keymallet.core.judging.exemptions import matching
from keymallet.core.judging.judge import Judgement
from keymallet.store.logbook.logbook import Logbook
from keymallet.store.logbook.pseudonyms import Pseudonyms
from keymallet.store.logbook.records import FileRecord, RunLine, RunRecord, TextRecord
from keymallet.store.snapshot import (
    MANIFEST,
    SUFFIX,
    Manifest,
    Snapshot,
    TableRecord,
    read_snapshot,
    shard_folder,
)

_NAMES = {ACCOUNT.name: ("name", "display", "mail"), PERSON.name: ("name", "mail")}
"""The facts, by table, that are names of people or of accounts."""
_WITHHELD = "withheld"
_WILD = frozenset("*?")


@dataclass(frozen=True)
class Masked:
    """A run without its names; `differing` are rules that come to other numbers, for they read the names."""

    record: RunRecord
    texts: Mapping[str, str]
    findings: bytes
    snapshot: Snapshot
    differing: list[str]


def masked_run(logbook: Logbook, run: RunLine, snapshot: Snapshot, folder: Path) -> Masked:
    """Put tokens in place of every name of the run; its snapshot is written below `folder`.

    Raises KeymalletError if a file of the run is not there or was altered.
    """
    record = logbook.record(run)
    assert record.rulebook is not None
    assert record.snapshot is not None
    texts = {text.name: logbook.text(text.blake3) for text in record.rulebook.texts}
    tables = snapshot.evidence({table: {*columns} for table, columns in _NAMES.items()}).tables
    found = logbook.findings(run)
    known = [
        tables[table][column] for table, columns in _NAMES.items() if table in tables for column in columns
    ]
    # What goes on, or was not seen, may be of an account that had another name then, or is there no more.
    people = found.filter(found[MAIL].is_null() & (found[ANSWERER] != NOBODY))
    renamed = [name for source in snapshot.manifest.sources.values() for name in source.renamed]
    known += [found["name"], found["display"], people[ANSWERER], pl.Series(renamed, dtype=pl.String)]
    names = Pseudonyms(name for series in known for name in series.drop_nulls().unique())
    other = _snapshot(snapshot, names, folder)
    register = None
    if record.register is not None:
        told = logbook.text(record.register.blake3)
        texts[record.register.name] = _register(told, names, tables[ACCOUNT.name]["account"])
        register = TextRecord.of(record.register.name, texts[record.register.name].encode())
    blank = msgspec.structs.replace(
        record,
        by=_WITHHELD,
        host=_WITHHELD,
        register=register,
        snapshot=msgspec.structs.replace(
            record.snapshot,
            blake3=other.digest,
            sources={
                name: msgspec.structs.replace(
                    source,
                    failed=names.in_text(source.failed),
                    incomplete=[names.in_text(text) for text in source.incomplete],
                )
                for name, source in record.snapshot.sources.items()
            },
        ),
        counts={
            of: {names.in_text(name) if of == "answerer" else name: number for name, number in counts.items()}
            for of, counts in record.counts.items()
        },
        gaps=names.in_values(record.gaps),
        accepted_gaps=names.in_values(record.accepted_gaps),
        transitions=None,
    )
    again = judged_as_kept(blank, texts, other)
    findings = _findings(names.in_frame(found), again)
    kept = FileRecord(record.findings.rows if record.findings else 0, blake3(findings).hexdigest())
    blank = msgspec.structs.replace(blank, findings=kept)
    return Masked(blank, texts, findings, other, differing_rules(record, again))


def _snapshot(snapshot: Snapshot, names: Pseudonyms, folder: Path) -> Snapshot:
    """The snapshot with tokens, written into a folder."""
    records = {}
    for name, record in snapshot.files().items():
        frame = names.in_frame(pl.read_parquet(snapshot.folder / name))
        path = folder / name
        path.parent.mkdir(exist_ok=True)
        frame.write_parquet(path, compression="lz4", statistics=False)
        records[name] = msgspec.structs.replace(record, digest=blake3(path.read_bytes()).hexdigest())
    in_shards, tables = snapshot.manifest.shards, snapshot.manifest.tables
    if in_shards:
        in_shards = [_of_files(records, shard_folder(number), each) for number, each in enumerate(in_shards)]
    else:
        tables = _of_files(records, "", tables)
    told = names.in_values(msgspec.to_builtins(snapshot.manifest.sources))
    for source in told.values():
        source["renamed"] = {names.in_text(old): new for old, new in source["renamed"].items()}
    plain = msgspec.to_builtins(snapshot.manifest) | {
        "sources": told,
        "tables": msgspec.to_builtins(tables),
        "shards": msgspec.to_builtins(in_shards),
        "passed-over": [],
    }
    manifest = msgspec.convert(plain, Manifest)
    (folder / MANIFEST).write_bytes(msgspec.json.format(msgspec.json.encode(manifest)))
    return read_snapshot(folder)


def _of_files(
    records: Mapping[str, TableRecord], below: str, tables: Iterable[str]
) -> dict[str, TableRecord]:
    return {name: records[f"{below}{name}{SUFFIX}"] for name in tables}


def _register(text: str, names: Pseudonyms, accounts: pl.Series) -> str:
    """The register with tokens, without its comments; a pattern becomes the accounts it matches."""

    def accounts_of(patterns: list[str]) -> list[str]:
        found: list[str] = []
        for pattern in patterns:
            hit = accounts.filter(matching(accounts, (pattern,))).to_list() if _WILD & set(pattern) else []
            found += hit or [pattern]
        return list(dict.fromkeys(map(names.in_text, found)))

    def walked(value: Any) -> Any:
        if isinstance(value, dict):
            return {
                key: accounts_of(each) if key == "accounts" and isinstance(each, list) else walked(each)
                for key, each in value.items()
            }
        if isinstance(value, list):
            return [walked(each) for each in value]
        return names.in_text(value) if isinstance(value, str) else value

    return tomlkit.dumps(walked(tomlkit.parse(text).unwrap()))


def _findings(masked: pl.DataFrame, again: Judgement) -> bytes:
    """The findings with tokens, known by keys that are made of these.

    What was said of them in earlier runs may name whoever has another name now: it is said anew, of what
    was judged `again` with tokens; of what cannot be, nothing is said.
    """
    masked = masked.with_columns(finding_ids(masked).alias(FINDING))
    observed = observe(again, masked)
    texts = [
        name for name, kind in TOLD.items() if kind in (pl.String, pl.List(pl.String)) and name != "title"
    ]
    said = describe(again, observed.alike).select(texts).hstack([observed.frame[FINDING]])
    said = said.unique(FINDING, keep="first", maintain_order=True)
    columns = masked.columns
    masked = masked.drop(texts).join(said, on=FINDING, how="left", maintain_order="left").select(columns)
    buffer = io.BytesIO()
    masked.write_parquet(buffer, compression="zstd", statistics=False)
    return buffer.getvalue()
