"""Rows of one file as columns of text, whatever format they came in."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass, field, replace

import polars as pl
import pyarrow as pa

from keymallet.core.facts.reading import Refusal

MEMBER = "@"
"""The name of the column that holds what a list was split into."""


@dataclass(frozen=True)
class _Stream:
    """An Arrow column that shows nothing but its stream: so it is taken over without more being loaded."""

    column: pa.Array | pa.ChunkedArray

    def __arrow_c_stream__(self, requested_schema: object = None) -> object:
        whole = self.column
        chunked = whole if isinstance(whole, pa.ChunkedArray) else pa.chunked_array([whole])
        return chunked.__arrow_c_stream__(requested_schema)


def series_of(column: pa.Array | pa.ChunkedArray) -> pl.Series:
    """A column of Arrow's as one of Polars'; nothing is copied that need not be."""
    return pl.Series(_Stream(column))


@dataclass
class ExportRows:
    """The rows of one file. An empty cell is null. `columns` holds only those asked for, as text; `unused`
    names those that nothing was asked of.

    Columns of instants that are written in full throughout may be instants already. `line_of` tells
    the lines on which records start; `origin` the record each row comes from, where they are not one
    and the same. `nothing_known` marks rows that stand for not knowing of any: `silent` is how many records
    do not mention the list that rows are made of. `list_mark` is what stands between members of a list, if
    that is not for the map to say.
    """

    file: str
    unused: list[str]
    columns: dict[str, pa.ChunkedArray]
    height: int
    line_of: Callable[[Collection[int]], list[int]]
    refused: list[Refusal] = field(default_factory=list)
    remarks: list[str] = field(default_factory=list)
    list_mark: str = ""
    origin: pl.Series | None = None
    nothing_known: pl.Series | None = None
    silent: int = 0

    def lines(self, rows: Collection[int]) -> list[int]:
        """The lines on which the records of these rows start."""
        return self.line_of(rows if self.origin is None else self.origin.gather(list(rows)).to_list())

    def where(self, holds: pl.Series) -> ExportRows:
        """Only the rows for which it holds."""
        return self._taken(holds.arg_true())

    def only_with(self, header: str, stands: Callable[[str | None], bool]) -> ExportRows:
        """Only the rows in which something stands in this column; a word for nothing is nothing."""
        written = series_of(self.columns[header]).cast(pl.String)
        told = [value for value in written.unique().to_list() if stands(value)]
        return self.where(written.is_in(pl.Series(told, dtype=pl.String).implode()).fill_null(False))

    def split(self, header: str, separator: str, is_none: Callable[[str | None], bool]) -> ExportRows:
        """A row for each member of the list that stands in this column; none where it is empty.

        Members that stand for nothing, like "none", are no rows.
        """
        lists = series_of(self.columns[header]).cast(pl.String).str.split(separator)
        members = pl.DataFrame({"row": pl.int_range(self.height, eager=True), MEMBER: lists}).explode(MEMBER)
        members = members.with_columns(pl.col(MEMBER).str.strip_chars()).filter(pl.col(MEMBER) != "")
        nothing = [member for member in members[MEMBER].unique() if is_none(member)]
        members = members.filter(~pl.col(MEMBER).is_in(nothing)) if nothing else members
        split_rows = self._taken(members["row"])
        text = members[MEMBER].to_arrow().cast(pa.string())
        split_rows.columns[MEMBER] = pa.chunked_array([text])
        return split_rows

    def _taken(self, rows: pl.Series) -> ExportRows:
        """These rows, in this order; a row may be taken several times."""
        places = rows.to_arrow()
        columns = {name: column.take(places) for name, column in self.columns.items()}
        origin = rows if self.origin is None else self.origin.gather(rows)
        return replace(self, columns=columns, height=len(rows), origin=origin)
