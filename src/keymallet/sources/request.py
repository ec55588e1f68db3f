"""What a source is asked, and how it gets at its files."""

from __future__ import annotations

import stat
from collections.abc import Iterator
from concurrent.futures import Executor, Future
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import datetime
from itertools import islice
from pathlib import Path
from typing import Protocol
from zoneinfo import ZoneInfo

from blake3 import blake3

from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.problems import fail
from keymallet.core.facts.reading import FileRead, Reading
from keymallet.engines.spool import Spool
from keymallet.sources.shared.secret import Secret, read_secret


class Watcher(Protocol):
    """Somebody who is told how far the reading of each source has come. Sources tell side by side."""

    def started(self, source: str) -> None:
        """It has begun."""

    def advanced(self, source: str, done: int, total: int | None, noun: str) -> None:
        """So many hosts, users or entries are read, of so many if that is known."""

    def ended(self, source: str) -> None:
        """It has come to its end, good or bad."""


class Nobody:
    """A watcher who does not care."""

    def started(self, source: str) -> None:
        """Not told to anybody."""

    def advanced(self, source: str, done: int, total: int | None, noun: str) -> None:
        """Not told to anybody."""

    def ended(self, source: str) -> None:
        """Not told to anybody."""


@dataclass(frozen=True)
class Request:
    """What a source is asked: its name, where its files are, the clock and the instant.

    `workers` do what can be done side by side; `watcher` is told how far the reading has come. Tables that
    are too large to be held may be left in the `spool`.
    """

    name: str
    folder: Path
    clock: ZoneInfo
    at: datetime
    workers: Executor
    watcher: Watcher = field(default_factory=Nobody)
    secrets: list[Secret] = field(default_factory=list)
    spool: Spool | None = None
    _digests: list[tuple[Reading, str, int, Future[str]]] = field(default_factory=list)

    def advanced(self, done: int, total: int | None, noun: str) -> None:
        """Tell how far the reading has come."""
        self.watcher.advanced(self.name, done, total, noun)

    def secret(self, pointer: str, setting: str) -> Secret:
        """Fetch a secret; it is kept in mind, so that it never comes back out."""
        secret = read_secret(pointer, self.folder, setting)
        self.secrets.append(secret)
        return secret

    def bytes_of(self, path: str, reading: Reading, at: Path | None = None) -> bytes:
        """Read a file of the estate; its digest is taken meanwhile. Raises KeymalletError.

        `at` is where it really stands, if `path` leads there over links.
        """
        return self._noted(path, reading, read_file(at or self.folder / path, path))

    def config_of(self, path: str, reading: Reading) -> str:
        """The text of a file of configuration that the estate names: a map."""
        return utf8_text(self._noted(path, reading, config_bytes(self.folder / path, path)), path)

    def _noted(self, path: str, reading: Reading, data: bytes) -> bytes:
        self._digests.append((reading, path, len(data), self.workers.submit(_digest, data)))
        return data

    def note_digest(self, path: str, reading: Reading, size: int, digest: str) -> None:
        """Note a file that was read in blocks: its size and its digest."""
        known: Future[str] = Future()
        known.set_result(digest)
        self._digests.append((reading, path, size, known))

    def note_part(self, path: str, reading: Reading, data: bytes) -> None:
        """Note a file of which only some records were read: size and digest are of those."""
        self._digests.append((reading, path, len(data), self.workers.submit(_digest, data)))

    def note_files(self) -> None:
        """Enter the files that were read into their readings, in the order of their paths."""
        for reading, path, size, digest in sorted(self._digests, key=lambda noted: noted[1]):
            file = FileRead(path, size, digest.result())
            if file not in reading.files[-1:]:  # one file may fill several tables
                reading.files.append(file)


def _digest(data: bytes) -> str:
    digest: str = blake3(data).hexdigest()
    return digest


def refuse_pipe(path: Path, shown: str) -> None:
    """Refuse what is neither a file nor a folder: reading it might never end. Raises KeymalletError."""
    with suppress(OSError):
        mode = path.stat().st_mode
        if not (stat.S_ISREG(mode) or stat.S_ISDIR(mode)):
            raise fail("this is a pipe or a device, not a file", file=shown, hint="write it to a file first")


def read_file(
    path: Path, shown: str, hint: str = "paths are taken from the folder the estate file is in"
) -> bytes:
    """Read a whole file. Raises KeymalletError saying why it cannot be read; `hint` is for a missing one."""
    try:
        return path.read_bytes()
    except FileNotFoundError:
        raise fail("there is no such file", file=shown, hint=_beside(path) or hint) from None
    except IsADirectoryError:
        raise fail("this is a folder, not a file", file=shown) from None
    except OSError as error:
        raise fail(f"the file cannot be read: {error.strerror or error}", file=shown) from None


LARGEST_CONFIG = 10_000_000
"""Bytes of a rulebook, register, map or estate file: far more than anybody writes."""


def config_bytes(path: Path, shown: str) -> bytes:
    """Read a file of configuration. Raises KeymalletError where it is a pipe, a device, or far too large."""
    try:
        about = path.stat()
    except OSError:
        return read_file(path, shown)
    if stat.S_ISREG(about.st_mode) and about.st_size > LARGEST_CONFIG:
        said = f"the file has {about.st_size:,} bytes; up to {LARGEST_CONFIG:,} are read"
        raise fail(said, file=shown, hint="is it the right one?")
    refuse_pipe(path, shown)
    return read_file(path, shown)


def config_text(path: Path, shown: str) -> str:
    """The text of a file of configuration. Raises KeymalletError, as `config_bytes`."""
    return utf8_text(config_bytes(path, shown), shown)


def _beside(path: Path) -> str:
    def names() -> Iterator[str]:
        if path.parent.is_dir():
            yield from (entry.name for entry in islice(path.parent.iterdir(), 1000))

    return did_you_mean(path.name, names())


def utf8_text(data: bytes, shown: str) -> str:
    """Decode a configuration file. Raises KeymalletError with the first line that is not UTF-8."""
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = data[: error.start].count(b"\n") + 1
        raise fail("the file is not UTF-8", file=shown, line=line, hint="save it as UTF-8") from None
