"""Writing what a command gives: files whole or not at all, rows in a format, standard output."""

from __future__ import annotations

import argparse
import io
import sys
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, TextIO

import polars as pl

from keymallet.core.base.problems import fail
from keymallet.outputs.formats import FORMATS
from keymallet.outputs.values import OutputRows, parts_of
from keymallet.store.files import write_whole


def write_file(path: Path, data: bytes | Iterable[bytes]) -> None:
    """Write a file whole or not at all; see `store.files`. Raises KeymalletError if it cannot be written."""
    if path.is_dir():
        raise fail("this is a folder, not a file", file=str(path), hint="--output takes the name of a file")
    try:
        write_whole(path, data)
    except OSError as error:
        raise fail(f"the file cannot be written: {error.strerror or error}", file=str(path)) from None


def write_encoded(
    options: argparse.Namespace,
    columns: pl.DataFrame,
    encoded: Iterable[bytes],
    head: dict[str, Any],
    name: str,
) -> None:
    """Write parts of rows that --format has encoded already; see `write_rows`."""
    rows = OutputRows([], head, name, getattr(options, "spreadsheet", False))
    _write(options, FORMATS[options.format].join(columns, encoded, rows))


def write_rows(
    options: argparse.Namespace, rows: pl.DataFrame | Iterable[pl.DataFrame], head: dict[str, Any], name: str
) -> None:
    """Write rows as --format asks, to --output or standard output; `head` and `name` are for JSON.

    Of rows in parts, each is written as it comes; a file is there whole or not at all.
    """
    parts = parts_of(rows) if isinstance(rows, pl.DataFrame) else rows
    data = FORMATS[options.format].write(
        OutputRows(parts, head, name, getattr(options, "spreadsheet", False))
    )
    _write(options, data)


def _write(options: argparse.Namespace, data: Iterable[bytes]) -> None:
    if options.output:
        write_file(Path(options.output), data)
    else:
        sys.stdout.buffer.writelines(data)


@contextmanager
def output_stream(path: str | None) -> Iterator[TextIO]:
    """Standard output, or a file that is written when all has been said."""
    if path is None:
        yield sys.stdout
        return
    text = io.StringIO()
    yield text
    write_file(Path(path), text.getvalue().encode())
