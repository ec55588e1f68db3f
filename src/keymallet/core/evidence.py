"""The evidence that is judged: fact tables as columns, and what each source supplied of them."""

from __future__ import annotations

import secrets
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime

import polars as pl

from keymallet.core.facts import Column, Kind, Table

ROW = "account-row"
"""Column of every table whose rows belong to an account: the row of that account, or null."""

UNREAD = "unread"
"""Optional column: the names of facts that stood in the source but could not be read there."""

NOTHING_KNOWN = "*"
"""In UNREAD: nothing of the row is known, not even whether there is such a row."""

ORIGIN = "from-source"
"""Column of tables that have no `source` of their own: the source a row came from."""


def data_type(column: Column) -> pl.DataType:
    """The Polars type that holds a fact."""
    match column.kind:
        case Kind.FLAG:
            return pl.Boolean()
        case Kind.COUNT:
            return pl.Int64()
        case Kind.TEXT:
            return pl.String()
        case Kind.WORD:
            return pl.Enum(column.words)
        case Kind.WORDS:
            return pl.List(pl.String())
        case Kind.INSTANT:
            return pl.Datetime("us", "UTC")
        case Kind.SPAN:
            return pl.Duration("us")


def source_column(table: Table) -> str:
    """The column that says which source a row of this table came from."""
    return "source" if "source" in table.names else ORIGIN


def empty_frame(table: Table) -> pl.DataFrame:
    """A frame of the table with all columns and no rows."""
    schema: dict[str, pl.DataType] = {column.name: data_type(column) for column in table.columns}
    if source_column(table) == ORIGIN:
        schema[ORIGIN] = pl.String()
    if table.of_account:
        schema[ROW] = pl.UInt32()
    return pl.DataFrame(schema=schema)


Supply = dict[str, dict[str, dict[str, str]]]
"""source → table → column → where in the source it stands, in words people can follow."""


@dataclass(frozen=True)
class Evidence:
    """Everything known, ready to be judged.

    `tables` may leave out columns that nobody asks for. In `account`, row number and `ROW` of the
    other tables agree. `supply` says what each source gives; what is not in it is unknown for the
    accounts of that source. The `account` column of tables other than `account` may be null where
    ROW is not: `account_names` gives it.
    """

    tables: dict[str, pl.DataFrame]
    supply: Supply
    read_at: dict[str, datetime]

    @property
    def sources(self) -> tuple[str, ...]:
        """The names of all sources that were read."""
        return tuple(self.supply)

    def suppliers(self, table: str, column: str | None = None) -> list[str]:
        """The sources that supply a table, or one column of it."""
        return [
            source
            for source, tables in self.supply.items()
            if table in tables and (column is None or column in tables[table])
        ]

    def only(self, rows: Iterable[int]) -> Evidence:
        """The evidence on these accounts alone, renumbered."""
        chosen = pl.Series("row", sorted(rows), dtype=pl.UInt32)
        numbering = pl.DataFrame({ROW: chosen, "new": pl.int_range(len(chosen), dtype=pl.UInt32, eager=True)})
        tables = {"account": self.tables["account"][chosen]}
        for name, frame in self.tables.items():
            if ROW in frame.columns:
                kept = frame.join(numbering, on=ROW, how="inner", maintain_order="left")
                tables[name] = kept.drop(ROW).rename({"new": ROW})
        return Evidence(tables, self.supply, self.read_at)


def link_to_accounts(names: pl.Series, tables: list[pl.DataFrame]) -> list[pl.DataFrame]:
    """Give each row of these tables the number of the account that its `account` column names.

    Where that is found, the name itself is dropped (null): it is the account's own.
    """
    if not tables:
        return []
    # One look-up for all tables: the names are indexed only once.
    named = pl.concat([table["account"] for table in tables])
    rows = _places_by_hash(names, named)
    if rows is None:
        rows = _places(names, named)
    linked, start = [], 0
    for table in tables:
        mine = rows.slice(start, table.height)
        orphan = pl.when(mine.is_null()).then(pl.col("account")).alias("account")
        linked.append(table.with_columns(orphan, mine))
        start += table.height
    return linked


def _places(names: pl.Series, wanted: pl.Series) -> pl.Series:
    """The row at which each wanted name stands among the names, or null."""
    numbered = pl.DataFrame({"name": names}).with_row_index(ROW)
    return wanted.alias("name").to_frame().join(numbered, on="name", how="left", maintain_order="left")[ROW]


def _places_by_hash(names: pl.Series, wanted: pl.Series) -> pl.Series | None:
    """The same by 64-bit hashes, in half the time; None unless a second hash confirms every match.

    The seeds are new each time, so that nobody can choose names whose hashes agree in both.
    """
    first, second = secrets.randbits(64), secrets.randbits(64)
    hashes = names.hash(first)
    if hashes.n_unique() < len(names):
        return None
    places = _places(hashes, wanted.hash(first))
    confirmed = names.hash(second).gather(places) == wanted.hash(second)
    return places if confirmed.all(ignore_nulls=True) else None


def account_names(accounts: pl.DataFrame, rows: pl.DataFrame) -> pl.Series:
    """The accounts that rows belong to, as source/name; also of those whose account is not there."""
    known = accounts["account"].gather(rows[ROW])
    return (
        pl.DataFrame({"known": known, "orphan": rows["account"]})
        .select(pl.coalesce("known", "orphan"))
        .to_series()
    )


def with_unread(frame: pl.DataFrame, unread: dict[str, pl.Series]) -> pl.DataFrame:
    """Enter the names of facts that could not be read into the rows' UNREAD column."""
    if not unread:
        return frame
    flags = pl.DataFrame([series.alias(name) for name, series in unread.items()])
    names = [pl.when(name).then(pl.lit(name)) for name in unread]
    listed = flags.select(pl.concat_list(names).list.drop_nulls()).to_series()
    if UNREAD in frame.columns:
        listed = frame[UNREAD].list.concat(listed)
    return frame.with_columns(listed.alias(UNREAD))
