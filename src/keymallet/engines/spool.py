"""Tables that are too large to be held, on disk in parts: in the order in which they came."""

from __future__ import annotations

import shutil
import tempfile
import threading
import time
from collections.abc import Collection, Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path

import polars as pl

from keymallet.core.base.problems import fail
from keymallet.engines.scratch import read_part, write_parts

PREFIX = ".unfinished-"
"""How the folder of a spool is called, so that what a killed reading leaves is cleared away by later ones."""
_PATIENCE = 5.0  # seconds


@dataclass(frozen=True)
class _Part:
    path: Path
    kinds: dict[str, pl.DataType]
    height: int
    known: dict[str, int]


class Spooled:
    """One table on disk."""

    def __init__(self, spool: Spool) -> None:
        self._spool = spool
        self._parts: list[_Part] = []

    @property
    def height(self) -> int:
        """How many rows there are."""
        return sum(part.height for part in self._parts)

    @property
    def kinds(self) -> dict[str, pl.DataType]:
        """The columns that any part has, and their types."""
        return {name: kind for part in self._parts for name, kind in part.kinds.items()}

    def known(self, column: str) -> int:
        """How many rows have a value in the column."""
        return sum(part.known.get(column, 0) for part in self._parts)

    def add(self, frame: pl.DataFrame) -> None:
        """Put rows behind those that are there. Raises KeymalletError if the disk does not take them."""
        self._parts.append(self._written(frame, self._spool.next_file()))

    def parts(self, columns: Collection[str] | None = None) -> Iterator[pl.DataFrame]:
        """The rows, part by part; with `columns`, only those of them that a part has."""
        for part in self._parts:
            yield read_part(part.path, 0, part.kinds, columns)

    def replace(self, number: int, frame: pl.DataFrame) -> None:
        """Put other rows in the place of a part."""
        self._parts[number] = self._written(frame, self._parts[number].path)

    def take_over(self, other: Spooled) -> None:
        """Put the parts of another table behind those that are there."""
        self._parts += other._parts

    def beside(self) -> Spooled:
        """A new table in the same spool."""
        return Spooled(self._spool)

    def let_go(self) -> None:
        """Remove the files; there are no rows any more."""
        for part in self._parts:
            part.path.unlink(missing_ok=True)
        self._parts = []

    def _written(self, frame: pl.DataFrame, path: Path) -> _Part:
        write_parts(path, frame)
        known = {name: frame.height - frame[name].null_count() for name in frame.columns}
        return _Part(path, dict(frame.schema), frame.height, known)


class Spool:
    """A folder for tables on disk, made when the first one is, and removed when a `with` statement ends."""

    def __init__(self, beside: Path) -> None:
        self._beside = beside
        self._folder: Path | None = None
        self._files = 0
        self._is_over = False
        self._lock = threading.Lock()

    def __enter__(self) -> Spool:
        return self

    def __exit__(self, *_: object) -> None:
        with self._lock:
            self._is_over = True
        # Whoever is not waited for may be writing a last file just now.
        until = time.monotonic() + _PATIENCE
        while self._folder is not None and self._folder.exists() and time.monotonic() < until:
            shutil.rmtree(self._folder, ignore_errors=True)
            time.sleep(0.01 if self._folder.exists() else 0)

    def table(self, frames: Iterable[pl.DataFrame] = ()) -> Spooled:
        """A new table, of these rows."""
        table = Spooled(self)
        for frame in frames:
            table.add(frame)
        return table

    def next_file(self) -> Path:
        """A file of which nobody knows yet. Raises KeymalletError if there can be none."""
        with self._lock:
            if self._is_over:
                raise fail("this reading has ended", file=str(self._beside))
            if self._folder is None:
                try:
                    self._beside.mkdir(parents=True, exist_ok=True)
                    # Its name cannot be guessed and its mode is 0700: it is for its owner alone.
                    self._folder = Path(tempfile.mkdtemp(prefix=PREFIX, dir=self._beside))
                except OSError as error:
                    said = f"no file can be made: {error.strerror or error}"
                    raise fail(said, file=str(self._beside)) from None
            self._files += 1
            return self._folder / f"{self._files:06}"
