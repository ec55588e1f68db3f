"""The table of formats that rows can be written in; light, so that options and help can be made from it.

A format is a module with one function, `write(rows: OutputRows) -> Iterator[bytes]`, and a row here.
"""

from __future__ import annotations

import importlib
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING, NamedTuple

if TYPE_CHECKING:
    from keymallet.outputs.values import OutputRows


class Format(NamedTuple):
    """One format: what it is, for help and docs, and the module that writes it."""

    meaning: str
    module: str

    @property
    def write(self) -> Callable[[OutputRows], Iterator[bytes]]:
        """The function that writes rows in this format; its module is loaded now."""
        write: Callable[[OutputRows], Iterator[bytes]] = importlib.import_module(self.module).write
        return write


FORMATS: dict[str, Format] = {
    "csv": Format("comma-separated values with a header (RFC 4180)", "keymallet.outputs.csv_rows"),
    "json": Format("one object: what was asked, and the rows as a list", "keymallet.outputs.json_object"),
    "jsonl": Format("one JSON object a line", "keymallet.outputs.json_lines"),
}
"""All formats by the word that `--format` takes."""
