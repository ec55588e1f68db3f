"""A batch of planned accounts as a reader hands it over."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import polars as pl

from keymallet.core.facts.reading import Refusal
from keymallet.core.vetting.target import NOTHING_SAID, Target

PASSWORD = "password"
"""The column of planned accounts that holds first passwords: looked at, and never kept."""


@dataclass
class Batch:
    """Planned accounts, one a row of `tables["account"]`, with what the file says beside them.

    Their `name` is unique: where the file gives none, or the same one again, the line is in it. `written` are
    the login names as they stand (null: none). In the other tables, `account` holds the unique names. `lines`
    are the lines on which the rows begin. `told_by` says which column of the file a fact stands in, by
    `table.fact`. `refused` are records that no row could be made of, `unreadable` cells of rows that are
    there.
    """

    file: str
    target: Target = NOTHING_SAID
    tables: dict[str, pl.DataFrame] = field(default_factory=dict)
    supply: dict[str, dict[str, str]] = field(default_factory=dict)
    written: pl.Series = field(default_factory=lambda: pl.Series([], dtype=pl.String))
    lines: list[int] = field(default_factory=list)
    told_by: Mapping[str, str] = field(default_factory=dict)
    refused: list[Refusal] = field(default_factory=list)
    unreadable: list[Refusal] = field(default_factory=list)
    remarks: list[str] = field(default_factory=list)

    @property
    def accounts(self) -> pl.DataFrame:
        """The planned accounts."""
        return self.tables["account"]


def unique_names(written: pl.Series, lines: list[int]) -> pl.Series:
    """Login names by which rows can be told apart: with the line where there is none, or it stood before."""
    told = pl.DataFrame({"name": written, "line": pl.Series(lines, dtype=pl.Int64)}).with_row_index("row")
    again = written.is_null() | ~written.is_first_distinct()
    line = pl.format("line {}", "line")
    apart = pl.when(pl.col("name").is_null()).then(line).otherwise(pl.format("{} (line {})", "name", "line"))
    names = told.select(name=pl.when(again).then(apart).otherwise("name")).to_series()
    # Somebody's login name may read like that, and several records may begin on one line.
    while (clash := names.is_duplicated()).any():
        counted = told.select(pl.format("{} #{}", names.alias("made"), pl.col("row") + 1)).to_series()
        names = names.zip_with(~clash, counted)
    return names


def has_password(batch: Batch) -> pl.Series:
    """Whether the batch gives each account a first password."""
    planned = batch.tables["planned"].filter(pl.col(PASSWORD).is_not_null() & (pl.col(PASSWORD) != ""))
    return batch.accounts["name"].is_in(planned["account"].implode())
