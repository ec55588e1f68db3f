"""What an earlier snapshot still tells when a new one is made: what was not read, dropped or renamed."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterable, Iterator
from functools import cached_property

import polars as pl

from keymallet.core.base.listing import how_many, some_names
from keymallet.core.base.problems import Problem
from keymallet.core.base.source_names import is_of
from keymallet.core.facts.declaration import ACCOUNT, FACTOR, GATE, GRANT, KEY, PERSON, SETTING, TABLES
from keymallet.core.facts.evidence import (
    ACCOUNT_ROW,
    CANDIDATES,
    NOTHING_KNOWN,
    ORIGIN,
    PERSON_ROW,
    UNREAD,
    Evidence,
    in_full,
    source_column,
)
from keymallet.core.facts.reading import Reading, RowsOnDisk
from keymallet.core.facts.shards import is_in_every_shard
from keymallet.core.linking.person_matching import BY_NUMBER
from keymallet.store.snapshot import Snapshot, SourceRecord


class Earlier:
    """The snapshot before, read once for all that is asked of it; or `evidence` in its place."""

    def __init__(self, snapshot: Snapshot, evidence: Evidence | None = None) -> None:
        self.snapshot = snapshot
        self._given = evidence

    def accounts(self, source: str) -> Iterator[pl.DataFrame]:
        """The names and lasting ids of a source's accounts, shard after shard."""
        for frame in self._names() if self.snapshot.shards > 1 else self._held:
            yield frame.filter(pl.col("source").cast(pl.String) == source).select("name", "stable-id")

    def _names(self) -> Iterator[pl.DataFrame]:
        for shard in range(self.snapshot.shards):
            yield self.snapshot.shard(shard, {"account": {"name", "stable-id"}}).tables["account"]

    @cached_property
    def _held(self) -> list[pl.DataFrame]:
        """The names of a snapshot in one piece: read once for all sources that ask."""
        return list(self._names())

    def people(self, source: str) -> pl.DataFrame | None:
        """The numbers of a roster's people; None where it has none."""
        if not self.number(PERSON.name, source):
            return None
        parts = [
            self.snapshot.shard(shard, {"person": {"person"}}).tables["person"]
            for shard in range(self.snapshot.shards)
        ]
        return pl.concat(
            part.filter(pl.col(ORIGIN).cast(pl.String) == source).select("person") for part in parts
        )

    def number(self, table: str, source: str) -> int:
        """How many accounts or people of a source there were."""
        return self._numbers.get((table, source), 0)

    @cached_property
    def _numbers(self) -> Counter[tuple[str, str]]:
        numbers: Counter[tuple[str, str]] = Counter()
        for table, column in ((ACCOUNT.name, "source"), (PERSON.name, ORIGIN)):
            for shard in range(self.snapshot.shards if table in self.snapshot.manifest.tables else 0):
                frame = self.snapshot.shard(shard, {table: set()}).tables[table]
                for source, number in frame[column].cast(pl.String).value_counts().iter_rows():
                    numbers[table, source] += number
        return numbers

    @cached_property
    def _evidence(self) -> Evidence:
        return self._given or self.snapshot.evidence()

    def sources_of(self, declared: str) -> dict[str, SourceRecord]:
        """How each source that the estate declares by this name was read."""
        sources = self.snapshot.manifest.sources
        return {name: record for name, record in sources.items() if is_of(name, declared)}

    def readings_of(self, declared: str) -> list[Reading]:
        """What the snapshot holds of a source, as it was read then."""
        return [self._reading(name, record) for name, record in self.sources_of(declared).items()]

    def _reading(self, name: str, record: SourceRecord) -> Reading:
        tables: dict[str, pl.DataFrame] = {}
        on_disk: dict[str, RowsOnDisk] = {}
        in_shards = self._given is None and self.snapshot.shards > 1
        for table in self.snapshot.manifest.tables if in_shards else self._evidence.tables:
            if TABLES[table].across:
                continue
            if in_shards:
                carried = _Carried(self.snapshot, table, name)
                if not carried.height and table != ACCOUNT.name:
                    continue
                part = next(carried.parts())
                if not is_in_every_shard(table):
                    on_disk[table] = carried
                    part = part.clear()
            else:
                part = _part(table, self._evidence.tables[table], name)
            if part.height or table == ACCOUNT.name or table in on_disk:
                tables[table] = part
        return Reading(
            name,
            tables=tables,
            on_disk=on_disk,
            supply=record.supply,
            intake=record.intake,
            files=record.files,
            remarks=record.remarks,
            incomplete=record.incomplete,
            failed=record.failed,
            read_at=record.read_at,
            renamed=record.renamed,
            empty_files=record.empty_files,
            referrals=record.referrals,
            known=record.known,
            emptied=record.emptied,
            shrunk=record.shrunk,
        )


class _Carried:
    """One source's rows of a table, shard after shard as a snapshot has them."""

    def __init__(self, snapshot: Snapshot, table: str, source: str) -> None:
        self._snapshot = snapshot
        self._table = table
        self._source = source

    @cached_property
    def height(self) -> int:
        """How many there are."""
        origin = source_column(TABLES[self._table])
        return sum(
            int((frame[origin].cast(pl.String) == self._source).sum()) for frame in self._frames(set())
        )

    def parts(self, columns: Collection[str] | None = None) -> Iterator[pl.DataFrame]:
        """The rows of each shard; with `columns`, only those."""
        for frame in self._frames(set(self._snapshot.manifest.tables[self._table].columns)):
            part = _part(self._table, frame, self._source)
            yield part if columns is None else part.select(name for name in part.columns if name in columns)

    def let_go(self) -> None:
        """They stay in their snapshot."""

    def _frames(self, columns: set[str]) -> Iterator[pl.DataFrame]:
        for shard in range(self._snapshot.shards):
            yield self._snapshot.shard(shard, {self._table: columns}).tables[self._table]


def _part(table: str, frame: pl.DataFrame, source: str) -> pl.DataFrame:
    """One source's rows of a table, as a reader would give them: with accounts by their bare names."""
    origin = source_column(TABLES[table])
    part = frame.filter(pl.col(origin).cast(pl.String) == source)
    # What is worked out over all sources is so again whenever they are put together.
    across = {column.name for column in TABLES[table].columns if column.across}
    dropped = {origin, ORIGIN, ACCOUNT_ROW, PERSON_ROW, CANDIDATES, *across}
    if table == ACCOUNT.name:
        dropped.add("account")
        part = _untied(part)
    elif TABLES[table].of_account:
        part = part.with_columns(pl.col("account").str.strip_prefix(source + "/"))
    return part.drop(name for name in dropped if name in part.columns)


def _untied(accounts: pl.DataFrame) -> pl.DataFrame:
    """The accounts with only those persons whose number their own source gave."""
    if "tied-by" not in accounts.columns:
        return accounts
    by_number = pl.col("tied-by").is_null() | (pl.col("tied-by") == BY_NUMBER)
    accounts = accounts.with_columns(pl.when(by_number).then("person").alias("person"))
    if UNREAD not in accounts.columns:
        return accounts
    ambiguous = pl.col(CANDIDATES).is_not_null() if CANDIDATES in accounts.columns else pl.lit(False)
    others = pl.col(UNREAD).list.filter(pl.element() != "person")
    return accounts.with_columns(pl.when(ambiguous).then(others).otherwise(UNREAD).alias(UNREAD))


def not_read(failed: Reading, earlier: Earlier | None) -> list[Reading]:
    """The accounts a source had before it could not be read: there, with nothing known of them.

    So they are neither gone nor clean: every rule that could be for them is unproven.
    """
    if earlier is None:
        return [failed]
    readings = []
    for name, record in earlier.sources_of(failed.source).items():
        nothing = pl.lit([NOTHING_KNOWN], dtype=pl.List(pl.String)).alias(UNREAD)
        names = pl.concat(part.select("name") for part in earlier.accounts(name))
        carried = Reading(name, failed=failed.failed, problems=failed.problems)
        carried.tables["account"] = names.with_columns(nothing)
        people = earlier.people(name)
        if people is not None:
            carried.tables["person"] = people.with_columns(nothing)
        known = [(names.height, "accounts")] + ([] if people is None else [(people.height, "people")])
        remark = " and ".join(f"{number:,} {noun}" for number, noun in known if number)
        if remark:
            last = record.read_at
            carried.remarks.append(f"{remark} known from {last:%Y-%m-%d %H:%M}Z are carried as not read")
            carried.read_at = last
        readings.append(carried)
    return readings or [failed]


def mark_renames(reading: Reading, earlier: Earlier | None) -> None:
    """Note accounts that go by another name than before: the same lasting id, and the old name is gone."""
    if earlier is None or "stable-id" not in reading.tables["account"].columns:
        return
    if not earlier.number(ACCOUNT.name, reading.source):
        return

    def before() -> Iterator[pl.DataFrame]:
        return earlier.accounts(reading.source)

    def now() -> Iterator[pl.DataFrame]:
        for part in reading.parts(ACCOUNT.name, ("name", "stable-id")):
            yield in_full(ACCOUNT, part, ("stable-id",)).select("name", "stable-id")

    # By hashes first: of two readings of very many accounts, the names of all cannot be held.
    then, since = _hashed(before()), _hashed(now())
    if then["name"].equals(since["name"]):
        return
    gone, come = then.join(since, on="name", how="anti"), since.join(then, on="name", how="anti")
    ids = come.drop_nulls().join(gone, on="stable-id", how="semi")["stable-id"].unique()
    if not len(ids):
        return
    then, since = _with_ids(before(), ids), _with_ids(now(), ids)
    # Few names come and go from one reading to the next: only those are looked at.
    went = then.join(since, on="name", how="anti").drop_nulls()
    came = since.join(then, on="name", how="anti").drop_nulls()
    renamed = came.join(went, on="stable-id", how="inner", maintain_order="left")
    renamed = renamed.select("stable-id", new="name", old="name_right")
    # An id that several accounts bear tells nothing of any of them.
    for whole in (then, since):
        borne = whole.filter(pl.col("stable-id").is_in(renamed["stable-id"].implode()))["stable-id"]
        several = borne.filter(borne.is_duplicated()).implode()
        renamed = renamed.filter(~pl.col("stable-id").is_in(several))
    reading.renamed = dict(renamed.select("old", "new").iter_rows())
    if reading.renamed:
        names = [f"{old} is now {new}" for old, new in reading.renamed.items()]
        reading.remarks.append(f"renamed: {some_names(names, 5)}")


def _hashed(parts: Iterable[pl.DataFrame]) -> pl.DataFrame:
    """Names and lasting ids as hashes; null where there is none."""
    each = (
        part.select(
            pl.when(pl.col(name).is_not_null()).then(pl.col(name).hash(_SEED)).alias(name)
            for name in ("name", "stable-id")
        )
        for part in parts
    )
    return pl.concat(each)


def _with_ids(parts: Iterable[pl.DataFrame], ids: pl.Series) -> pl.DataFrame:
    """The names and lasting ids of accounts whose ids have these hashes."""
    return pl.concat(part.filter(pl.col("stable-id").hash(_SEED).is_in(ids.implode())) for part in parts)


_SEED = 2_654_435_761

_COME_AND_GO = ("locked-since", "locked-until", "lock-cause", "last-failed", "failed-attempts", "closed")
"""Facts that are there only now and then: that nobody has one is no sign of anything."""
_OFTEN = 10
"""A column is missed if one in so many rows had a value, a table if one in so many accounts had a row."""


def mark_emptied(reading: Reading, earlier: Earlier | None) -> None:
    """Note tables and columns that had values before and have none now.

    They stay noted from reading to reading until there are values again.
    """
    record = earlier.snapshot.manifest.sources.get(reading.source) if earlier else None
    if record is None:
        return
    accounts = max(record.known.get(name, {}).get("", 0) for name in (ACCOUNT.name, PERSON.name))
    for table, columns in reading.supply.items():
        before, now = record.known.get(table, {}), reading.known.get(table, {})
        noted = record.emptied.get(table, [])
        if not now.get(""):
            missed = "" in noted or before.get("", 0) * _OFTEN > accounts > 0
            if missed and table not in (ACCOUNT.name, PERSON.name):
                reading.emptied[table] = [""]
            continue
        gone = [
            name
            for name in columns
            if not now.get(name)
            and name not in _COME_AND_GO
            and (name in noted or before.get(name, 0) * _OFTEN > before.get("", 0))
        ]
        if gone:
            reading.emptied[table] = gone


_LASTING = (FACTOR.name, KEY.name, GRANT.name, GATE.name, SETTING.name)
"""Tables whose rows stay until somebody takes them away; sign-ins and openings come and go by themselves."""
_FEW = 20
"""A table of fewer rows may lose more than half of them by chance."""


def mark_shrunk(reading: Reading, earlier: Earlier | None) -> None:
    """Note tables that have less than half of the rows they had: an export cut off between two rows looks so.

    They stay noted from reading to reading until there are enough rows again.
    """
    record = earlier.snapshot.manifest.sources.get(reading.source) if earlier else None
    if record is None:
        return
    for table in _LASTING:
        if table in reading.supply:
            before = max(record.shrunk.get(table, 0), record.known.get(table, {}).get("", 0))
            if before >= _FEW and reading.known.get(table, {}).get("", 0) * 2 < before:
                reading.shrunk[table] = before


def drops(readings: list[Reading], declared: str, earlier: Earlier | None, largest: int) -> list[Problem]:
    """A problem where a source has lost more accounts or people than it may without being asked about."""
    mine = [reading for reading in readings if is_of(reading.source, declared)]
    if earlier is None or any(reading.failed for reading in mine):
        return []
    problems = []
    for table in (ACCOUNT.name, PERSON.name):
        sources = earlier.snapshot.manifest.sources
        before = sum(earlier.number(table, name) for name in sources if is_of(name, declared))
        now = sum(reading.height(table) for reading in mine)
        if (before - now) * 100 > largest * before:
            noun = ("account", "accounts") if table == ACCOUNT.name else ("person", "people")
            lost = round(100 * (before - now) / before)
            complaint = f"{declared}: {how_many(now, *noun)} where there were {before:,}: {lost}% fewer"
            hint = f"if that is right: --accept-drop; more than {largest}% is asked about (largest-drop)"
            problems.append(Problem(complaint, hint=hint))
    return problems
