"""One frame for each table, out of the readings of all sources: the start of linking."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import polars as pl
from msgspec.structs import replace as replace_in

from keymallet.core.base.listing import how_many, some_names
from keymallet.core.facts.declaration import ACCOUNT, SIGN_IN, TABLES
from keymallet.core.facts.evidence import (
    ACCOUNT_ROW,
    NOTHING_KNOWN,
    STRAYS,
    UNREAD,
    link_to_accounts,
    source_column,
)
from keymallet.core.facts.reading import Reading, TableIntake
from keymallet.core.linking.linked import LinkedReadings


def assemble(readings: Sequence[Reading]) -> LinkedReadings:
    """The tables of all readings as one frame each: the sources in their order, each row with its source.

    Accounts are called `source/name` from here on, and rows of other tables know the row of their account.
    A row that names no account of its source is kept and counted. It might be anybody's there: what rests
    on having no row is not known for the accounts of that source that have none. Of sign-ins, such rows are
    counted and let go: a name that is nobody's may be a password, typed into the wrong field.
    """
    assembly = Assembly(readings)
    strays = strays_of_all([assembly.strays()])
    return assembly.finished(strays, found_of_all([assembly.found(strays)]))


_Of = tuple[str, str]
"""A source and a table of it."""


@dataclass(frozen=True)
class Strays:
    """Rows of a source's table that name no account of the source: how many, and a few of the names.

    `values` has each name they give, as a hash as it stands and one in small letters, and how many `rows`
    give it; None where such rows are expected.
    """

    number: int
    names: tuple[str, ...]
    values: pl.DataFrame | None


Found = dict[tuple[_Of, str], pl.Series]
"""Of the strays of a table, the hashes of those names that are an account's by another fact."""


def strays_of_all(parts: Sequence[dict[_Of, Strays]]) -> dict[_Of, Strays]:
    """The strays of all parts of the sources."""
    together: dict[_Of, Strays] = {}
    for part in parts:
        for of, more in part.items():
            there = together.get(of)
            together[of] = more if there is None else _added(there, more)
    return together


def _added(one: Strays, other: Strays) -> Strays:
    names = tuple(sorted({*one.names, *other.names}))[:_NAMES_KEPT]
    values = None
    if one.values is not None and other.values is not None:
        both = pl.concat([one.values, other.values])
        values = both.group_by("value", "folded").agg(pl.col("rows").sum())
    return Strays(one.number + other.number, names, values)


def found_of_all(parts: Sequence[Found]) -> Found:
    """What of the strays is found among the accounts of all parts."""
    keys = dict.fromkeys(key for part in parts for key in part)
    return {key: pl.concat([part[key] for part in parts if key in part]).unique() for key in keys}


class Assembly:
    """Readings of sources, or of parts of them, on the way to frames of all sources."""

    def __init__(self, readings: Sequence[Reading]) -> None:
        self.readings = readings
        self._tied = [_tied_to_accounts(reading) for reading in readings]

    def strays(self) -> dict[_Of, Strays]:
        """The rows that name no account, by source and table."""
        strays = {}
        for reading, tied in zip(self.readings, self._tied, strict=True):
            for name, frame in tied.items():
                names = frame.filter(pl.col(ACCOUNT_ROW).is_null())["account"]
                if len(names):
                    expected = reading.strays_expected or name == SIGN_IN.name
                    few = names.unique(maintain_order=True).head(_NAMES_KEPT).to_list()
                    values = None if expected else _by_value(names)
                    strays[reading.source, name] = Strays(len(names), tuple(few), values)
        return strays

    def found(self, strays: Mapping[_Of, Strays]) -> Found:
        """Which of the names that strays give are an account's here by another fact."""
        found = {}
        accounts = {reading.source: reading.tables[ACCOUNT.name] for reading in self.readings}
        for of, its in strays.items():
            mine = accounts.get(of[0])
            for fact in FINDING if its.values is not None and mine is not None else ():
                if mine is not None and its.values is not None and fact in mine.columns:
                    known = mine[fact].drop_nulls()
                    hashes = (known.str.to_lowercase() if fact == _FOLDED else known).hash(_SEED)
                    sought = its.values[_sought(fact)]
                    found[of, fact] = sought.filter(sought.is_in(hashes.implode())).unique().alias("value")
        return found

    def finished(self, strays: Mapping[_Of, Strays], found: Found) -> LinkedReadings:
        """One frame for each table, with what strays of all parts leave open."""
        # An enumeration, so that a source's name takes few bytes in each of millions of rows.
        sources = pl.Enum([reading.source for reading in self.readings])
        parts: dict[str, list[pl.DataFrame]] = {}
        assembled = []
        first_row = 0
        for reading, tied in zip(self.readings, self._tied, strict=True):
            height = reading.tables[ACCOUNT.name].height
            mine = {name: its for (source, name), its in strays.items() if source == reading.source}
            assembled.append(_with_notes(reading, tied, mine, found))
            for name, frame in _named_in_full(reading, tied, mine).items():
                table = TABLES[name]
                origin = pl.lit(reading.source, dtype=sources).alias(source_column(table))
                # Rows of accounts are numbered within their own reading until here.
                moved = [pl.col(ACCOUNT_ROW) + first_row] if table.of_account and first_row else []
                parts.setdefault(name, []).append(frame.with_columns(origin, *moved))
            first_row += height
        tables = {
            name: parts[name][0] if len(parts[name]) == 1 else pl.concat(parts[name], how="diagonal")
            for name in TABLES
            if name in parts
        }
        return LinkedReadings(tuple(assembled), tables)


_FOLDED = "name"
FINDING = ("mail", "stable-id", _FOLDED)
_SEED = 2_654_435_761


def _sought(fact: str) -> str:
    return "folded" if fact == _FOLDED else "value"


def _by_value(names: pl.Series) -> pl.DataFrame:
    hashes = pl.DataFrame({"value": names.hash(_SEED), "folded": names.str.to_lowercase().hash(_SEED)})
    return hashes.group_by("value", "folded").len("rows")


def _would_be_found(of: _Of, strays: Strays, found: Found) -> tuple[str, int]:
    """By which fact most rows that name nobody would find their account, and how many; ("", 0) by none."""
    best = ("", 0)
    for fact in FINDING:
        hashes = found.get((of, fact))
        if hashes is not None and strays.values is not None:
            rows = strays.values.filter(pl.col(_sought(fact)).is_in(hashes.implode()))["rows"].sum()
            best = max(best, (fact, int(rows)), key=lambda each: each[1])
    return best if best[1] * 2 > strays.number else ("", 0)


def _tied_to_accounts(reading: Reading) -> dict[str, pl.DataFrame]:
    """The rows of the reading that belong to accounts, each with the number of its account."""
    belonging = [name for name in reading.tables if TABLES[name].of_account]
    names = reading.tables[ACCOUNT.name]["name"]
    linked = link_to_accounts(names, [reading.tables[name] for name in belonging])
    return dict(zip(belonging, linked, strict=True))


def _with_notes(
    reading: Reading, tied: Mapping[str, pl.DataFrame], strays: Mapping[str, Strays], found: Found
) -> Reading:
    """The reading with notes on rows that name no account."""
    intake = dict(reading.intake)
    remarks = list(reading.remarks)
    for name in tied:
        its, expected = strays.get(name), reading.strays_expected
        if its and name == SIGN_IN.name:
            remarks.append(_nobodys_sign_ins(its.number))
        elif its and expected:
            few = some_names(its.names, of=its.number)
            remarks.append(f"{name}: {its.number:,} rows name accounts that are not there: {few}")
        noted = {"strays": 0, "stray_names": [], "stray_by": "", "found_by": 0}
        if its and its.values is not None:
            by, number = _would_be_found((reading.source, name), its, found)
            noted = {
                "strays": its.number,
                "stray_names": list(its.names),
                "stray_by": by,
                "found_by": number,
            }
        intake[name] = replace_in(intake.get(name, TableIntake()), **noted)
    return replace(reading, intake=intake, remarks=list(dict.fromkeys(remarks)))


def _named_in_full(
    reading: Reading, tied: Mapping[str, pl.DataFrame], strays: Mapping[str, Strays]
) -> dict[str, pl.DataFrame]:
    """The reading's tables, with accounts called source/name, and rows for what strays leave open."""
    accounts = reading.tables[ACCOUNT.name]
    account = (pl.lit(reading.source + "/") + pl.col("account")).alias("account")
    tables = dict(reading.tables)
    for name, frame in tied.items():
        if name == SIGN_IN.name:
            frame = frame.filter(pl.col(ACCOUNT_ROW).is_not_null())
        elif name in strays and not reading.strays_expected:
            frame = _open_where_there_is_none(frame, accounts.height)
        tables[name] = frame.with_columns(account)
    tables[ACCOUNT.name] = accounts.with_columns(
        (pl.lit(reading.source + "/") + pl.col("name")).alias("account")
    )
    return tables


_NAMES_KEPT = 20


def _nobodys_sign_ins(number: int) -> str:
    """The remark on sign-ins that name nobody; without the names."""
    return (
        f"sign-in: {how_many(number, 'attempt names', 'attempts name')} nobody here; the names are not kept"
    )


def _open_where_there_is_none(frame: pl.DataFrame, accounts: int) -> pl.DataFrame:
    """The rows, and one for each account without any, which says that it is not known whether it has one."""
    everybody = pl.DataFrame({ACCOUNT_ROW: pl.int_range(accounts, dtype=pl.UInt32, eager=True)})
    without = everybody.join(frame, on=ACCOUNT_ROW, how="anti")
    unread = pl.lit([NOTHING_KNOWN, STRAYS], dtype=pl.List(pl.String)).alias(UNREAD)
    return pl.concat([frame, without.with_columns(unread)], how="diagonal")
