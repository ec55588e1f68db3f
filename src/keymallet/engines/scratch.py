"""What shards leave for each other: frames in a file, each read by itself by its place.

Words of closed sets are kept as numbers: a file can hold them only for all its frames at once.
"""

from __future__ import annotations

import secrets
import tempfile
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
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
        elsewhere = path.is_relative_to(tempfile.gettempdir())
        hint = "make room there, or name another folder in TMPDIR" if elsewhere else "make room there"
        raise fail(said, file=str(path.parent), hint=hint) from None


def write_parts(path: Path, frame: pl.DataFrame, part: pl.Series | None = None, parts: int = 1) -> None:
    """Write the rows of a frame as one frame for each part, by the number of the `part` that each is of.

    Raises KeymalletError, as `write_frames`.
    """
    words = [name for name, kind in frame.schema.items() if isinstance(kind, pl.Enum)]
    rows = frame.with_columns(pl.col(words).to_physical()) if words else frame
    heights = {0: frame.height}
    if part is not None:
        ordered = rows.with_columns(part.alias(_PART)).sort(_PART, maintain_order=True)
        heights = dict(ordered.group_by(_PART).len().iter_rows())
        rows = ordered.drop(_PART)
    # One batch, of which each part is a piece: to turn pieces into batches takes three times as long.
    whole = _batch(rows, rows.clear().to_arrow(compat_level=_PLAIN).schema)
    with (
        _written(path) as unfinished,
        pa.OSFile(str(unfinished), "wb") as file,
        pa.ipc.new_file(file, whole.schema, options=pa.ipc.IpcWriteOptions(compression="lz4")) as writer,
    ):
        start = 0
        for number in range(parts):
            writer.write_batch(whole.slice(start, heights.get(number, 0)))
            start += heights.get(number, 0)


_PART = "part of the scratch file"


def read_part(
    path: Path, number: int, kinds: Mapping[str, pl.DataType], columns: Collection[str] | None = None
) -> pl.DataFrame:
    """The rows of a part as `write_parts` was given them, of these types; with `columns`, only those."""
    names = [name for name in kinds if columns is None or name in columns]
    (frame,) = read_frames(path, [number], names)
    for name in names:
        kind = kinds[name]
        if isinstance(kind, pl.Enum):
            words = pl.Series(kind.categories, dtype=kind)
            frame = frame.with_columns(words.gather(frame[name]).alias(name))
    return frame


def _damaged(path: Path, said: str) -> KeymalletError:
    return fail(f"what a shard left cannot be read: {said}", file=str(path), hint="run it again")


def _batch(frame: pl.DataFrame, kind: pa.Schema) -> pa.RecordBatch:
    """A frame as one batch, also if it has no row."""
    table = frame.rechunk().to_arrow(compat_level=_PLAIN)
    batches = (table if table.schema == kind else table.cast(kind)).combine_chunks().to_batches()
    return batches[0] if batches else pa.RecordBatch.from_pylist([], kind)


def read_frames(
    path: Path, places: Iterable[int], columns: Sequence[str] | None = None
) -> Iterator[pl.DataFrame]:
    """The frames at these places, in the order asked; with `columns`, only those, in their order.

    Raises KeymalletError if the file is damaged.
    """
    try:
        with pa.memory_map(str(path)) as file, _opened(file, columns) as reader:
            for place in places:
                frame = pl.from_arrow(reader.get_batch(place))
                assert isinstance(frame, pl.DataFrame)
                yield frame if columns is None else frame.select(columns)
    except (OSError, pa.ArrowException) as error:
        raise _damaged(path, str(error).splitlines()[0]) from None


def _opened(file: pa.NativeFile, columns: Sequence[str] | None) -> pa.ipc.RecordBatchFileReader:
    if columns is None:
        return pa.ipc.open_file(file)
    with pa.ipc.open_file(file) as whole:
        places = [whole.schema.get_field_index(name) for name in columns]
    return pa.ipc.open_file(file, options=pa.ipc.IpcReadOptions(included_fields=places))
