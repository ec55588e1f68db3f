"""Readings taken apart into shards on disk, and linked one shard after the other."""

from __future__ import annotations

import secrets
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import polars as pl

from keymallet.core.base.parallel import in_advance
from keymallet.core.facts.declaration import ACCOUNT, GATE, PERSON
from keymallet.core.facts.reading import Reading
from keymallet.core.facts.shards import is_in_every_shard
from keymallet.core.linking.in_parts import Columns, PartLinked, Rounds, gates_of_all, readings_of_all
from keymallet.core.linking.linked import LinkingRules
from keymallet.core.linking.placing import Placing, columns_of_keys, keys_of_accounts, keys_of_people
from keymallet.engines.scratch import read_part, write_parts

_Of = tuple[str, str]
"""A source and a table of it."""


class ReadingsInShards:
    """Readings on the way into a snapshot in shards. Their rows are let go as they are written away."""

    def __init__(self, readings: Sequence[Reading], rules: LinkingRules, shards: int) -> None:
        self._readings = list(readings)
        self._rules = rules
        self._shards = shards
        self._done: list[PartLinked] = []
        self.accounts = sum(reading.height(ACCOUNT.name) for reading in readings)

    def shards(self, scratch: Path) -> Iterator[dict[str, pl.DataFrame]]:
        """The linked rows of each shard in turn; what they leave for each other lies in the folder."""
        parts = _taken_apart(self._readings, self._rules, self._shards, scratch)
        self._readings = []
        rounds = Rounds(self._rules)
        while not rounds.is_over():
            columns = rounds.wanted(parts.tables)
            rounds.heard([rounds.tell(readings) for readings in in_advance(parts.each(columns))])
        for linked in in_advance(rounds.finished(readings) for readings in parts.each()):
            self._done.append(PartLinked.of(linked))
            yield dict(linked.tables)

    def together(self) -> tuple[list[Reading], dict[str, pl.DataFrame]]:
        """When all shards were given: the readings without rows, and tables that all shards have alike."""
        gates = gates_of_all(self._done)
        return readings_of_all(self._done), {} if gates is None else {GATE.name: gates}


@dataclass(frozen=True)
class _File:
    """Some rows of a table, a part for each shard, and their columns."""

    path: Path
    kinds: dict[str, pl.DataType]


@dataclass(frozen=True)
class _Parts:
    """Readings whose rows lie in files; `rest` has what every shard has."""

    shards: int
    rest: list[Reading]
    files: dict[_Of, list[_File]]

    def each(self, columns: Columns | None = None) -> Iterator[list[Reading]]:
        """The readings with the rows of each shard in turn; with `columns`, only these tables and columns."""
        return (self.of(shard, columns) for shard in range(self.shards))

    @property
    def count(self) -> int:
        """How many files there are."""
        return sum(map(len, self.files.values()))

    @property
    def tables(self) -> dict[str, set[str]]:
        """All tables, and the columns that any source has of them."""
        tables: dict[str, set[str]] = {}
        for (_, table), files in self.files.items():
            tables.setdefault(table, set()).update(*(file.kinds for file in files))
        for reading in self.rest:
            for table, frame in reading.tables.items():
                tables.setdefault(table, set()).update(frame.columns)
        return tables

    def of(self, shard: int, columns: Columns | None = None) -> list[Reading]:
        """The readings with the rows of a shard; with `columns`, only these tables and columns."""
        return [replace(reading, tables=dict(self._tables(reading, shard, columns))) for reading in self.rest]

    def _tables(
        self, reading: Reading, shard: int, columns: Columns | None
    ) -> Iterator[tuple[str, pl.DataFrame]]:
        for (source, table), files in self.files.items():
            if source == reading.source and (columns is None or table in columns):
                wanted = None if columns is None else columns[table]
                frames = [read_part(file.path, shard, file.kinds, wanted) for file in files]
                yield table, frames[0] if len(frames) == 1 else pl.concat(frames, how="diagonal")
        for table, frame in reading.tables.items():
            if columns is None or table in columns:
                yield table, frame


def _taken_apart(readings: list[Reading], rules: LinkingRules, shards: int, folder: Path) -> _Parts:
    """Write the rows of all readings into files, by the shards they belong in. The list is emptied."""
    placing = Placing(shards)
    columns = columns_of_keys(rules)
    keys: dict[_Of, list[pl.Series]] = {}
    for reading in readings:
        for accounts in reading.parts(ACCOUNT.name, columns[ACCOUNT.name]):
            told = placing.tell(keys_of_accounts(reading.source, accounts, rules), alone=True)
            keys.setdefault((reading.source, ACCOUNT.name), []).append(told)
        for people in reading.parts(PERSON.name, columns[PERSON.name]):
            told = placing.tell(keys_of_people(people, rules), alone=False)
            keys.setdefault((reading.source, PERSON.name), []).append(told)
    parts = _Parts(shards, [], {})
    while readings:
        reading = readings.pop(0)
        source = reading.source
        where = {
            name: pl.concat([placing.shards_of(each) for each in keys.pop((source, name))])
            for name in (ACCOUNT.name, PERSON.name)
            if (source, name) in keys
        }
        names = [part["name"] for part in reading.parts(ACCOUNT.name, {"name"})]
        by_name = _ByName(pl.concat(names), where[ACCOUNT.name], shards)
        del names
        everywhere = {}
        for name in list(reading.tables):
            if is_in_every_shard(name):
                everywhere[name] = reading.tables[name]
                continue
            first = 0
            for frame in in_advance(_several_at_once(reading.parts(name))):
                if name in where:
                    mine = where[name].slice(first, frame.height)
                else:
                    mine = by_name.shards_of(frame["account"])
                first += frame.height
                path = folder / f"{parts.count:06}-{name}"
                write_parts(path, frame, mine, shards)
                parts.files.setdefault((source, name), []).append(_File(path, dict(frame.schema)))
            reading.tables[name] = reading.tables[name].clear()
            if name in reading.on_disk:
                reading.on_disk.pop(name).let_go()
        parts.rest.append(replace(reading, tables=everywhere))
    return parts


_SEEDS = 3
"""Two names have one hash once in a hundred thousand readings of ten million; so often it is tried again."""
_AT_ONCE = 500_000
"""So many rows about are written at once: in few large files, of which each shard has a large piece."""


def _several_at_once(parts: Iterator[pl.DataFrame]) -> Iterator[pl.DataFrame]:
    """The same rows in larger pieces."""
    held: list[pl.DataFrame] = []
    for part in parts:
        held.append(part)
        if sum(frame.height for frame in held) >= _AT_ONCE:
            yield pl.concat(held, how="diagonal")
            held = []
    if held:
        yield pl.concat(held, how="diagonal")


class _ByName:
    """The shards of a source's accounts, by their names; of a name that is no account's, some shard.

    By hashes with a seed that is new each time: a row that came into a wrong shard would name nobody there.
    """

    def __init__(self, names: pl.Series, shards_of: pl.Series, shards: int) -> None:
        self._shards = shards
        for _ in range(_SEEDS):
            self._seed = secrets.randbits(64)
            hashed = pl.DataFrame({"hash": names.hash(self._seed), "shard": shards_of})
            if hashed["hash"].n_unique() == len(names):
                break
        ordered = hashed.sort("hash")
        self._hashes, self._places = ordered["hash"], ordered["shard"]

    def shards_of(self, names: pl.Series) -> pl.Series:
        """The shard in which the rows of these accounts belong."""
        hashes = names.hash(self._seed)
        # With the same seed each time: what is noted of such rows is the same whenever they are read.
        anywhere = pl.select((names.hash() % self._shards).cast(pl.UInt16)).to_series()
        if not len(self._hashes):
            return anywhere
        place = self._hashes.search_sorted(hashes).clip(upper_bound=len(self._hashes) - 1)
        found = self._hashes.gather(place) == hashes
        return self._places.gather(place).zip_with(found, anywhere)
