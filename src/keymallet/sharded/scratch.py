"""What shards leave for each other: frames in a file, each read by itself by its place."""

from __future__ import annotations

import secrets
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from itertools import chain
from pathlib import Path

import polars as pl
import pyarrow as pa

from keymallet.core.base.problems import KeymalletError, fail

_PLAIN = pl.CompatLevel.oldest()
"""As Arrow's files have it, without types that only newer readers know."""


def write_frames(path: Path, frames: Iterable[pl.DataFrame]) -> None:
    """Write frames of the same columns into a file, one after the other. Raises KeymalletError.

    It is written beside its place, so that it is there whole or not at all, however often it is written.
    """
    coming = iter(frames)
    first = next(coming, pl.DataFrame())
    kind = first.clear().to_arrow(compat_level=_PLAIN).schema
    options = pa.ipc.IpcWriteOptions(compression="lz4")
    with (
        _written(path) as unfinished,
        pa.OSFile(str(unfinished), "wb") as file,
        pa.ipc.new_file(file, kind, options=options) as writer,
    ):
        for frame in chain([first], coming):
            writer.write_batch(_batch(frame.select(first.columns), kind))


def write_bytes(path: Path, parts: Iterable[bytes]) -> None:
    """Write bytes into a file, as `write_frames` does frames."""
    with _written(path) as unfinished, unfinished.open("wb") as file:
        file.writelines(parts)


def read_bytes(path: Path, places: Iterable[tuple[int, int]]) -> Iterator[bytes]:
    """The bytes that begin somewhere and are so long, in the order asked. Raises KeymalletError."""
    try:
        with path.open("rb") as file:
            for start, length in places:
                file.seek(start)
                data = file.read(length)
                if len(data) < length:
                    raise _damaged(path, "it ends too soon")
                yield data
    except OSError as error:
        raise _damaged(path, error.strerror or str(error)) from None


@contextmanager
def _written(path: Path) -> Iterator[Path]:
    unfinished = path.with_name(f"{path.name}-{secrets.token_hex(4)}")
    try:
        yield unfinished
        unfinished.replace(path)
    except OSError as error:
        said = f"what shards leave for each other cannot be written: {error.strerror or error}"
        hint = "make room there, or name another folder in TMPDIR"
        raise fail(said, file=str(path.parent), hint=hint) from None


def _damaged(path: Path, said: str) -> KeymalletError:
    return fail(f"what a shard left cannot be read: {said}", file=str(path), hint="run it again")


def _batch(frame: pl.DataFrame, kind: pa.Schema) -> pa.RecordBatch:
    """A frame as one batch, also if it has no row."""
    batches = frame.rechunk().to_arrow(compat_level=_PLAIN).cast(kind).combine_chunks().to_batches()
    return batches[0] if batches else pa.RecordBatch.from_pylist([], kind)


def read_frames(path: Path, places: Iterable[int]) -> Iterator[pl.DataFrame]:
    """The frames at these places, in the order asked. Raises KeymalletError if the file is damaged."""
    try:
        with pa.memory_map(str(path)) as file, pa.ipc.open_file(file) as reader:
            for place in places:
                frame = pl.from_arrow(reader.get_batch(place))
                assert isinstance(frame, pl.DataFrame)
                yield frame
    except (OSError, pa.ArrowException) as error:
        raise _damaged(path, str(error).splitlines()[0]) from None
