"""The table of formats that rows can be written in; light, so that options and help can be made from it.

A format is a module with two functions, and a row here: `encode(part, spreadsheet)` gives the bytes of some
rows, `around(columns, rows)` what stands before all rows, between two parts, and after them.
"""

from __future__ import annotations

import importlib
from collections.abc import Callable, Iterable, Iterator
from typing import TYPE_CHECKING, NamedTuple, Protocol

if TYPE_CHECKING:
    import polars as pl

    from keymallet.outputs.values import Around, OutputRows


class Encode(Protocol):
    """What gives the bytes of some rows in a format; those of no rows are empty."""

    def __call__(self, part: pl.DataFrame, *, spreadsheet: bool) -> bytes:
        """Encode a part."""


class Format(NamedTuple):
    """One format: what it is, for help and docs, and the module that writes it."""

    meaning: str
    module: str

    @property
    def encode(self) -> Encode:
        """The function that gives the bytes of some rows; its module is loaded now."""
        encode: Encode = importlib.import_module(self.module).encode
        return encode

    def write(self, rows: OutputRows) -> Iterator[bytes]:
        """The rows in this format, part by part."""
        encode, parts = self.encode, iter(rows.parts)
        first = next(parts)
        yield from self.join(first, _all_encoded(encode, first, parts, rows.spreadsheet), rows)

    def join(self, columns: pl.DataFrame, encoded: Iterable[bytes], rows: OutputRows) -> Iterator[bytes]:
        """The same of parts that are `encoded` already; `columns` has their columns, with or without rows."""
        around: Callable[[pl.DataFrame, OutputRows], Around] = importlib.import_module(self.module).around
        before, between, after = around(columns, rows)
        yield before
        separator = b""
        for part in filter(None, encoded):
            yield separator + part if separator else part
            separator = between
        yield after


def _all_encoded(
    encode: Encode, first: pl.DataFrame, others: Iterator[pl.DataFrame], spreadsheet: bool
) -> Iterator[bytes]:
    yield encode(first, spreadsheet=spreadsheet)
    for part in others:
        yield encode(part, spreadsheet=spreadsheet)


FORMATS: dict[str, Format] = {
    "csv": Format("comma-separated values with a header (RFC 4180)", "keymallet.outputs.csv_rows"),
    "json": Format("one object: what was asked, and the rows as a list", "keymallet.outputs.json_object"),
    "jsonl": Format("one JSON object a line", "keymallet.outputs.json_lines"),
}
"""All formats by the word that `--format` takes."""
