"""The evidence that is judged: fact tables as columns, and what each source supplied of them."""

from __future__ import annotations

import secrets
from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, field, replace
from datetime import datetime

import polars as pl

from keymallet.core.base.word_lists import words_that_hold
from keymallet.core.facts.model import Column, Kind, Table

ACCOUNT_ROW = "account-row"
"""Column of every table whose rows belong to an account: the row of that account, or null."""

PERSON_ROW = "person-row"
"""Optional column of accounts: the row of the person it belongs to, or null."""

CANDIDATES = "person-candidates"
"""Optional column of accounts: numbers of the people it may belong to, where that is ambiguous."""

UNREAD = "unread"
"""Optional column: the names of facts that stood in the source but could not be read there."""

NOTHING_KNOWN = "*"
"""In UNREAD: nothing of the row is known, not even whether there is such a row."""

STRAYS = "strays"
"""In UNREAD, beside NOTHING_KNOWN: because rows of the source name accounts that are not there."""

SHARED_ID = "shared-stable-id"
"""In a shard, of accounts: whether another account of the source, in any shard, has the same lasting id."""

ORIGIN = "from-source"
"""Column of tables that have no `source` of their own: the source a row came from."""


INSTANT = pl.Datetime("us", "UTC")
"""The Polars type of every instant."""


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
            return INSTANT
        case Kind.SPAN:
            return pl.Duration("us")


def row_column(table: Table) -> str:
    """The column that says which row of its owner a row of this table belongs to."""
    return f"{table.owner}-row"


def source_column(table: Table) -> str:
    """The column that says which source a row of this table came from."""
    return "source" if "source" in table.names else ORIGIN


def empty_frame(table: Table) -> pl.DataFrame:
    """A frame of the table with all columns and no rows."""
    schema: dict[str, pl.DataType] = {column.name: data_type(column) for column in table.columns}
    if source_column(table) == ORIGIN:
        schema[ORIGIN] = pl.String()
    if table.owner:
        schema[row_column(table)] = pl.UInt32()
    return pl.DataFrame(schema=schema)


Supply = dict[str, dict[str, dict[str, str]]]
"""source → table → column → where in the source it stands, in words people can follow."""


@dataclass(frozen=True)
class Evidence:
    """Everything known, ready to be judged.

    `tables` may leave out columns that nobody asks for. In `account`, row number and `ACCOUNT_ROW`
    of the other tables agree. `supply` says what each source gives; what is not in it is unknown for the
    accounts of that source. The `account` column of tables other than `account` may be null where
    ACCOUNT_ROW is not: `account_names` gives it. `everywhere` are columns by table that no source
    supplies, but whoever judges: they are known for all of them.
    """

    tables: dict[str, pl.DataFrame]
    supply: Supply
    read_at: dict[str, datetime]
    everywhere: Mapping[str, frozenset[str]] = field(default_factory=dict)

    @property
    def sources(self) -> tuple[str, ...]:
        """The names of all sources that were read."""
        return tuple(self.supply)

    def suppliers(self, table: str, column: str | None = None) -> list[str]:
        """The sources that supply a table, or one column of it."""
        if column in self.everywhere.get(table, ()):
            return list(self.sources)
        return [
            source
            for source, tables in self.supply.items()
            if table in tables and (column is None or column in tables[table])
        ]

    def only(self, rows: Iterable[int]) -> Evidence:
        """The evidence on these accounts and their people alone, renumbered."""
        chosen = pl.Series("row", sorted(rows), dtype=pl.UInt32)
        accounts = self.tables["account"][chosen]
        tables = {"account": accounts}
        if "setting" in self.tables:
            # What is in force for an account stands in rows that are no account's.
            tables["setting"] = self.tables["setting"]
        for name, frame in self.tables.items():
            if ACCOUNT_ROW in frame.columns:
                tables[name] = _renumbered(frame, ACCOUNT_ROW, chosen, keep_others=False)
        if PERSON_ROW in accounts.columns and "person" in self.tables:
            people = accounts[PERSON_ROW].drop_nulls().unique().sort()
            tables["person"] = self.tables["person"][people]
            tables["account"] = _renumbered(accounts, PERSON_ROW, people, keep_others=True)
        return replace(self, tables=tables)

    def around(self, row: int) -> Evidence:
        """The evidence that verdicts on one account rest on: with other accounts of the same person.

        Accounts of which it is not known whose they are might be that person's: they are in it too.
        """
        accounts = self.tables["account"]
        if PERSON_ROW not in accounts.columns or accounts[PERSON_ROW][row] is None:
            return self.only([row])
        same = pl.col(PERSON_ROW) == accounts[PERSON_ROW][row]
        # Accounts of these sources may be this person's as well: nothing says that they are not.
        untold = [name for name in self.sources if "person" not in self.supply[name].get("account", {})]
        anybodys = pl.col(PERSON_ROW).is_null() & pl.col("source").cast(pl.String).is_in(untold)
        if UNREAD in accounts.columns:
            anybodys |= pl.col(PERSON_ROW).is_null() & (pl.col(UNREAD).list.len() > 0)
        wanted = accounts.select((same | anybodys).fill_null(False).alias("wanted"))["wanted"]
        return self.only(wanted.arg_true())


def _renumbered(frame: pl.DataFrame, column: str, chosen: pl.Series, *, keep_others: bool) -> pl.DataFrame:
    """The rows that belong to the chosen ones of their owners, numbered by their places among these."""
    places = pl.int_range(len(chosen), dtype=pl.UInt32, eager=True)
    numbering = pl.DataFrame({column: chosen, "new": places})
    kept = frame.join(numbering, on=column, how="left" if keep_others else "inner", maintain_order="left")
    return kept.drop(column).rename({"new": column})


def in_full(table: Table, frame: pl.DataFrame, names: Collection[str] | None = None) -> pl.DataFrame:
    """The frame with every column of its table, or with these; what nobody gives is not known."""
    return frame.with_columns(
        pl.lit(None, dtype=data_type(column)).alias(column.name)
        for column in table.columns
        if column.name not in frame.columns and (names is None or column.name in names)
    )


def link_to_accounts(names: pl.Series, tables: list[pl.DataFrame]) -> list[pl.DataFrame]:
    """Give each row of these tables the number of the account that its `account` column names.

    Where that is found, the name itself is dropped (null): it is the account's own.
    """
    if not tables:
        return []
    # One look-up for all tables: the names are indexed only once.
    named = pl.concat([table["account"] for table in tables])
    # By hashes of eight bytes where that is certain, else by the names themselves.
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
    numbered = pl.DataFrame({"name": names}).with_row_index(ACCOUNT_ROW)
    return (
        wanted.alias("name")
        .to_frame()
        .join(numbered, on="name", how="left", maintain_order="left")[ACCOUNT_ROW]
    )


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
    known = accounts["account"].gather(rows[ACCOUNT_ROW])
    return (
        pl.DataFrame({"known": known, "orphan": rows["account"]})
        .select(pl.coalesce("known", "orphan"))
        .to_series()
    )


def with_unread(frame: pl.DataFrame, unread: dict[str, pl.Series]) -> pl.DataFrame:
    """Enter the names of facts that could not be read into the rows' UNREAD column."""
    if not unread:
        return frame
    listed = words_that_hold(list(unread.items()), frame.height)
    if UNREAD not in frame.columns or not frame[UNREAD].count():
        return frame.with_columns(listed.alias(UNREAD))
    both = pl.DataFrame({"before": frame[UNREAD], "listed": listed}).with_row_index("place")
    noted = both.filter(pl.col("before").is_not_null())
    # Only where both have something is anything joined: to join lists takes long.
    joined = noted.select("place", pl.col("before").list.concat("listed").alias("listed"))
    plain = both.filter(pl.col("before").is_null()).select("place", "listed")
    return frame.with_columns(pl.concat([plain, joined]).sort("place")["listed"].alias(UNREAD))


def notes_unread(frame: pl.DataFrame, word: str) -> pl.Expr:
    """Whether each row of the frame has this word among what could not be read."""
    if UNREAD not in frame.columns:
        return pl.lit(False)
    return pl.col(UNREAD).list.contains(pl.lit(word)).fill_null(False)
