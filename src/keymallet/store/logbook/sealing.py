"""A sealed run: one file with everything a run rests on, that can be judged again anywhere.

It is a ZIP of the run's record, the texts and the snapshot it was judged by, its findings, and a proof: the
digests of the records after it, which lead to the head of the chain. Each member has its digest in the
manifest, the record has those of all else, and the proof leads from the record to the head: who knows the
head from outside knows that nothing was changed since.
"""

from __future__ import annotations

import os
import re
import tempfile
import zipfile
import zlib
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import TypeVar

import msgspec
from blake3 import blake3

from keymallet.core.base.problems import KeymalletError, fail
from keymallet.store.logbook.logbook import FINDINGS, RECORD, TEXT, Logbook
from keymallet.store.logbook.records import RunLine, RunRecord, encode, head_of
from keymallet.store.snapshot import MANIFEST, Snapshot, read_snapshot

FORMAT = 1
_MANIFEST, _RECORD, _PROOF, _FINDINGS, _SNAPSHOT, _TEXTS = (
    "manifest.json",
    "record.json",
    "proof.json",
    "findings.parquet",
    "snapshot/",
    "texts/",
)
_MEMBERS = re.compile(r"(?:record|proof)\.json|findings\.parquet"
                      r"|snapshot/(?:manifest\.json|(?:shard-\d{4,}/)?[a-z-]+\.parquet)"
                      r"|texts/[0-9a-f]{64}\.toml")  # fmt: skip
S = TypeVar("S", bound=msgspec.Struct)
_ALWAYS = (1980, 1, 1, 0, 0, 0)
"""The date of every member: the same run gives the same bytes."""
_LARGEST = 64 << 30  # bytes of all members together


class Proof(msgspec.Struct, rename="kebab", frozen=True):
    """How the record's digest leads to the head: what was before it, and the digests from it on."""

    previous: str
    digests: list[str]
    head: str

    @property
    def holds(self) -> bool:
        """Whether the digests lead to the head."""
        reached = self.previous
        for digest in self.digests:
            reached = head_of(reached, digest)
        return reached == self.head


class SealManifest(msgspec.Struct, rename="kebab", frozen=True):
    """What is in a sealed run: the digest (BLAKE3) of every member.

    Where names were replaced by tokens, `pseudonyms_of` is the head of the run it was made from.
    """

    format: int
    head: str
    members: dict[str, str]
    pseudonyms_of: str = ""


@dataclass(frozen=True)
class Sealed:
    """A sealed run, opened and found whole; `snapshot` stands in a folder for as long as it is open."""

    record: RunRecord
    head: str
    texts: dict[str, str]
    findings: bytes
    snapshot: Snapshot
    pseudonyms_of: str = ""


def seal(logbook: Logbook, run: RunLine, snapshot: Snapshot, target: Path) -> None:
    """Write a sealed run, whole or not at all.

    Raises KeymalletError if something it rests on is not there or was altered, or if it cannot be written.
    """
    record = logbook.record(run)
    after = [line for line in logbook.runs() if line.number >= run.number]
    proof = Proof(run.previous, [line.digest for line in after], after[-1].head)
    if not proof.holds or run.pruned:
        said = "its findings are no longer kept" if run.pruned else "the chain is broken after it"
        hint = "keymallet logbook verify says where" if not run.pruned else ""
        raise fail(f"run {run.number} cannot be sealed: {said}", file=logbook.location.said, hint=hint)
    snapshot.check()  # while a copy of it may still be at hand
    texts = {text.name: logbook.text(text.blake3) for text in record.texts}
    findings = logbook.contents.get(run.findings, FINDINGS)
    pack(target, logbook.contents.get(run.digest, RECORD), proof, texts, findings, snapshot)


def seal_masked(
    run: RunLine,
    record: RunRecord,
    texts: Mapping[str, str],
    findings: bytes,
    snapshot: Snapshot,
    target: Path,
) -> None:
    """Write a sealed run that was made from another, with tokens in place of names.

    It has a head of its own: only who has the logbook can tell that it was made from the run it names.
    """
    data = encode(record)
    digest = blake3(data).hexdigest()
    proof = Proof(record.previous, [digest], head_of(record.previous, digest))
    pack(target, data, proof, texts, findings, snapshot, pseudonyms_of=run.head)


def pack(
    target: Path,
    record: bytes,
    proof: Proof,
    texts: Mapping[str, str],
    findings: bytes,
    snapshot: Snapshot,
    pseudonyms_of: str = "",
) -> None:
    """Write the file, whole or not at all. Raises KeymalletError if it cannot be written."""
    contents: dict[str, bytes | Path] = {_RECORD: record, _PROOF: _json(proof), _FINDINGS: findings}
    for text in texts.values():
        contents[f"{_TEXTS}{blake3(text.encode()).hexdigest()}{TEXT}"] = text.encode()
    contents[_SNAPSHOT + MANIFEST] = snapshot.folder / MANIFEST
    contents.update((f"{_SNAPSHOT}{name}", snapshot.folder / name) for name in snapshot.files())
    unfinished = target
    try:
        handle, name = tempfile.mkstemp(prefix=".keymallet-", dir=target.parent)
        os.close(handle)
        unfinished = Path(name)
        _write(unfinished, contents, proof.head, pseudonyms_of)
        unfinished.replace(target)
    except OSError as error:
        raise fail(f"the sealed run cannot be written: {error.strerror or error}", file=str(target)) from None
    finally:
        if unfinished is not target:
            unfinished.unlink(missing_ok=True)


def _write(path: Path, contents: dict[str, bytes | Path], head: str, pseudonyms_of: str) -> None:
    digests = {}
    with zipfile.ZipFile(path, "w") as archive:
        for name, content in contents.items():
            kind = zipfile.ZIP_STORED if name.endswith(".parquet") else zipfile.ZIP_DEFLATED
            info = zipfile.ZipInfo(name, _ALWAYS)
            info.compress_type, info.external_attr = kind, 0o600 << 16
            hasher = blake3()
            with archive.open(info, "w", force_zip64=True) as member:
                for part in _parts(content):
                    hasher.update(part)
                    member.write(part)
            digests[name] = hasher.hexdigest()
        info = zipfile.ZipInfo(_MANIFEST, _ALWAYS)
        archive.writestr(
            info, _json(SealManifest(FORMAT, head, digests, pseudonyms_of)), zipfile.ZIP_DEFLATED
        )


def _parts(content: bytes | Path) -> Iterator[bytes]:
    if isinstance(content, bytes):
        yield content
        return
    with content.open("rb") as file:
        while part := file.read(1 << 20):
            yield part


def _json(value: msgspec.Struct) -> bytes:
    return msgspec.json.format(msgspec.json.encode(value)) + b"\n"


@contextmanager
def opened(path: Path) -> Iterator[Sealed]:
    """Open a sealed run, and hold every byte of it against its digest.

    Raises KeymalletError with everything that is not as it was sealed.
    """
    with tempfile.TemporaryDirectory(prefix="keymallet-sealed-") as made:
        folder = Path(made)
        try:
            with zipfile.ZipFile(path) as archive:
                yield _read(path, archive, folder)
        except OSError as error:
            raise fail(f"the file cannot be read: {error.strerror or error}", file=str(path)) from None
        except (zipfile.BadZipFile, zlib.error, NotImplementedError, RuntimeError, EOFError) as error:
            hint = "keymallet logbook seal writes one; have it sent again"
            raise fail(
                f"this is no sealed run, or it was altered: {error}", file=str(path), hint=hint
            ) from None


def _read(path: Path, archive: zipfile.ZipFile, folder: Path) -> Sealed:
    def altered(said: str) -> KeymalletError:
        return fail(f"the sealed run is not as it was sealed: {said}", file=str(path))

    names = archive.namelist()
    if _MANIFEST not in names or _RECORD not in names:
        raise fail("this is no sealed run", file=str(path), hint="keymallet logbook seal writes one")
    if sum(info.file_size for info in archive.infolist()) > _LARGEST:
        raise fail("it says that it holds more than 64 GB: no sealed run does", file=str(path))
    manifest = _decoded(archive.read(_MANIFEST), SealManifest)
    if manifest is None:
        raise altered("its manifest")
    if manifest.format != FORMAT:
        hint = "use the version of Keymallet that sealed it"
        raise fail(f"it was sealed in format {manifest.format}, not {FORMAT}", file=str(path), hint=hint)
    if sorted(names) != sorted([*manifest.members, _MANIFEST]) or len(set(names)) != len(names):
        raise altered("a member was removed or put in")
    if odd := [name for name in manifest.members if not _MEMBERS.fullmatch(name)]:
        raise altered(f"{odd[0]} is no part of a sealed run")
    (folder / _SNAPSHOT).mkdir()
    (folder / _TEXTS).mkdir()
    for name, digest in manifest.members.items():
        hasher = blake3()
        (folder / name).parent.mkdir(exist_ok=True)
        with archive.open(name) as member, (folder / name).open("wb") as file:
            while part := member.read(1 << 20):
                hasher.update(part)
                file.write(part)
        if hasher.hexdigest() != digest:
            raise altered(name)
    return _checked(folder, manifest, altered)


def _checked(folder: Path, manifest: SealManifest, altered: Callable[[str], KeymalletError]) -> Sealed:
    """Hold the members against what the record, and the proof, say of them."""
    record_bytes = (folder / _RECORD).read_bytes()
    record, proof = _decoded(record_bytes, RunRecord), _decoded((folder / _PROOF).read_bytes(), Proof)
    if record is None or proof is None:
        raise altered("its record or its proof cannot be read")
    digest = blake3(record_bytes).hexdigest()
    if not proof.holds or proof.digests[:1] != [digest] or proof.head != manifest.head:
        raise altered("the proof does not lead from its record to the head")
    if record.previous != proof.previous:
        raise altered("its record does not follow what the proof says")
    findings = (folder / _FINDINGS).read_bytes()
    if record.findings is None or blake3(findings).hexdigest() != record.findings.blake3:
        raise altered("its findings are not those of its record")
    texts = {}
    for text in record.texts:
        path = folder / _TEXTS / f"{text.blake3}{TEXT}"
        if not path.is_file() or blake3(path.read_bytes()).hexdigest() != text.blake3:
            raise altered(f"the text of {text.name} is not that of its record")
        texts[text.name] = path.read_text("utf-8")
    snapshot = read_snapshot(folder / _SNAPSHOT)
    if record.snapshot is None or snapshot.digest != record.snapshot.blake3:
        raise altered("its snapshot is not that of its record")
    return Sealed(record, proof.head, texts, findings, snapshot, manifest.pseudonyms_of)


def _decoded(data: bytes, kind: type[S]) -> S | None:
    """The struct in these bytes; None if they hold none, or are not the one way to write it."""
    try:
        value = msgspec.json.decode(data, type=kind)
    except msgspec.DecodeError:
        return None
    # Of a record its digest decides: a later version may know more to say in one.
    return value if kind is RunRecord or _json(value) == data else None
