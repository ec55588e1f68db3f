"""Two sources that must agree: which accounts have a twin in the other, and in what the twins differ."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from typing import TypeVar
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.base.source_names import is_of
from keymallet.core.facts import wording
from keymallet.core.facts.declaration import ACCOUNT
from keymallet.core.facts.evidence import NOTHING_KNOWN, UNREAD, in_full, with_unread
from keymallet.core.facts.reading import Reading
from keymallet.core.linking.declared import SourcePair
from keymallet.core.linking.linked import LinkedReadings, LinkingRules, Said, of_sources
from keymallet.core.linking.matching_keys import shared_key

T = TypeVar("T")
_RESULTS = ("twins", "no-twin-in", "twin-differs")
_LIST = pl.List(pl.String)


def sides_without_key(linked: LinkedReadings, rules: LinkingRules, _: None) -> set[tuple[int, str]] | None:
    """The sides of pairs, by the pair's place and the source, with an account whose key is not known."""
    accounts = linked.accounts.with_row_index("row")
    return {
        (place, side.declared)
        for place, pair in enumerate(rules.pairs)
        for side, _ in _sides(pair, linked.readings, accounts, rules.clock)
        if side.accounts["key_open"].any()
    } or None


def any_of(parts: Sequence[set[T]]) -> set[T]:
    """What any part has."""
    return set().union(*parts)


def reconcile(
    linked: LinkedReadings, rules: LinkingRules, without_key: set[tuple[int, str]] | None
) -> LinkedReadings:
    """Enter of each account of paired sources its twins, where it has none, and how they differ."""
    if not rules.pairs:
        return linked
    accounts = linked.accounts.with_row_index("row")
    parts = [
        side.against(other, lacks_key=(place, other.declared) in (without_key or ()))
        for place, pair in enumerate(rules.pairs)
        for side, other in _sides(pair, linked.readings, accounts, rules.clock)
    ]
    compared = _one_each(pl.concat(part.frame for part in parts))
    matched = accounts.select("row").join(compared, on="row", how="left", maintain_order="left")
    finished = accounts.drop("row").with_columns(matched[name] for name in _RESULTS)
    open_rows: dict[str, pl.Series] = {}
    for name in _RESULTS:
        is_open = matched[f"{name} open"].fill_null(False)
        # What was found missing or differing stays so, whatever else cannot be told.
        settled = matched[name].list.len().fill_null(0) > 0
        open_rows[name] = is_open & ~settled
        cleared = pl.when(~open_rows[name]).then(pl.col(name)).alias(name)
        finished = finished.with_columns(cleared)
    marked = with_unread(finished, {name: rows for name, rows in open_rows.items() if rows.any()})
    linked = linked.with_frame(ACCOUNT, marked)
    for place, part in enumerate(parts):
        linked = part.entered(linked, f"pair {place}")
    return linked


def _one_each(answers: pl.DataFrame) -> pl.DataFrame:
    """One row for each account; only where accounts have several twins is there anything to join."""
    if not answers["row"].is_duplicated().any():
        return answers
    return answers.group_by("row").agg(
        *(
            pl.col(name).explode(empty_as_null=True).drop_nulls().unique(maintain_order=True)
            for name in _RESULTS
        ),
        *(pl.col(f"{name} open").any() for name in _RESULTS),
    )


def _sides(
    pair: SourcePair, readings: Sequence[Reading], accounts: pl.DataFrame, clock: ZoneInfo
) -> Iterator[tuple[_Side, _Side]]:
    first, second = (_Side(pair, declared, readings, accounts, clock) for declared in pair.sources)
    yield first, second
    yield second, first


class _Side:
    """The accounts of one source of a pair."""

    def __init__(
        self,
        pair: SourcePair,
        declared: str,
        readings: Sequence[Reading],
        accounts: pl.DataFrame,
        clock: ZoneInfo,
    ) -> None:
        self.pair = pair
        self.declared = declared
        self.readings = [reading for reading in readings if is_of(reading.source, declared)]
        mine = accounts.filter(of_sources(reading.source for reading in self.readings))
        mine = in_full(ACCOUNT, mine, (pair.by, "kind", *pair.facts))
        kind = pl.col("kind").cast(pl.String)
        in_scope = kind.is_in(list(pair.kinds)) | kind.is_null() if pair.kinds else pl.lit(True)
        written = [
            wording.values(mine[name], column.kind, clock).fill_null("none").alias(name)
            for name in pair.facts
            if (column := ACCOUNT.column(name)) is not None
        ]
        unread = pl.col(UNREAD) if UNREAD in mine.columns else pl.lit(None, dtype=_LIST)
        self.accounts = (
            mine.select("row", "account", key=shared_key(pair), scope=in_scope, unread=unread)
            .hstack([written_fact.alias(f"fact {written_fact.name}") for written_fact in written])
            .with_columns(
                *(_names(name).alias(f"open {name}") for name in pair.facts),
                key_open=_names(pair.by) if self._supplies(pair.by) else pl.col("key").is_null(),
            )
        )

    def _supplies(self, fact: str) -> bool:
        return all(fact in reading.supply.get(ACCOUNT.name, {}) for reading in self.readings)

    @property
    def is_whole(self) -> bool:
        """Whether every account of it is there to be found as a twin."""
        return bool(self.readings) and not any(
            reading.failed or reading.incomplete for reading in self.readings
        )

    def against(self, other: _Side, *, lacks_key: bool) -> _Reconciled:
        """Hold the accounts of this side against those of the other, of which one may have no key."""
        # An account without a key can be nobody's twin; that it hides somebody's is accounted for below.
        theirs = other.accounts.filter(pl.col("key").is_not_null())
        joined = self.accounts.filter("scope").join(
            theirs, on="key", how="left", suffix=" there", maintain_order="left"
        )
        compared = [name for name in self.pair.facts if self._supplies(name) and other._supplies(name)]
        differs = [self._differs(name) for name in compared]
        unsure = [pl.col(f"open {name}") | pl.col(f"open {name} there") for name in compared]
        if len(compared) < len(self.pair.facts):
            unsure.append(pl.col("account there").is_not_null())
        has_twin = pl.col("account there").is_not_null()
        nothing = pl.lit([], dtype=_LIST)
        # Who is not there may yet be among what was not read there, or among those without a key.
        hidden = not other.is_whole or lacks_key
        lost = ~has_twin & (pl.col("key_open") | pl.lit(hidden))
        joined = joined.with_row_index("place")
        frame = joined.select(
            "row",
            pl.when(has_twin).then(pl.concat_list("account there")).otherwise(nothing).alias("twins"),
            pl.when(has_twin | lost)
            .then(nothing)
            .otherwise(pl.lit([other.declared], dtype=_LIST))
            .alias("no-twin-in"),
            self._differences(joined, compared, pl.any_horizontal(differs) if differs else pl.lit(False)),
            lost.alias("twins open"),
            lost.alias("no-twin-in open"),
            (lost | (pl.any_horizontal(unsure) if unsure else pl.lit(False))).alias("twin-differs open"),
        )
        left = self.pair.facts if not compared else [f for f in self.pair.facts if f not in compared]
        return _Reconciled(self.declared, other.declared, frame, tuple(left))

    @staticmethod
    def _differs(name: str) -> pl.Expr:
        """Whether an account differs from its twin in this fact, as far as both are known."""
        known = ~pl.col(f"open {name}") & ~pl.col(f"open {name} there")
        differs = pl.col(f"fact {name}") != pl.col(f"fact {name} there")
        return pl.col("account there").is_not_null() & known & differs

    def _differences(self, joined: pl.DataFrame, compared: list[str], where: pl.Expr) -> pl.Series:
        """How accounts differ from their twins, in words; put into words only where they do."""
        differences = [
            pl.when(self._differs(name)).then(
                pl.format(
                    "{} {}, in {} {}",
                    pl.lit(name),
                    pl.col(f"fact {name}"),
                    pl.col("account there"),
                    pl.col(f"fact {name} there"),
                )
            )
            for name in compared
        ]
        few = joined.filter(where)
        listed = few.select(
            "place", (pl.concat_list(differences) if differences else pl.lit([], dtype=_LIST)).alias("told")
        )
        listed = listed.with_columns(pl.col("told").list.drop_nulls())
        matched = joined.select("place").join(listed, on="place", how="left", maintain_order="left")
        return matched.select(
            pl.col("told").fill_null(pl.lit([], dtype=_LIST)).alias("twin-differs")
        ).to_series()


@dataclass(frozen=True)
class _Reconciled:
    """What holding one side against the other gave, a row for each account and twin."""

    here: str
    there: str
    frame: pl.DataFrame
    not_compared: tuple[str, ...]

    def entered(self, linked: LinkedReadings, of: str) -> LinkedReadings:
        """Enter what the sources of this side supply now, and remark how it came out."""
        mine = [reading for reading in linked.readings if is_of(reading.source, self.here)]
        if not mine:
            return linked
        read = [reading.source for reading in mine if not reading.failed]
        linked = linked.supplying(read, ACCOUNT, dict.fromkeys(_RESULTS, "the pairs of the estate"))
        source = mine[0].source
        said = [Said(source, of, partial(_how_it_came_out, self.there), self._numbers())]
        if self.not_compared:
            facts = ", ".join(self.not_compared)
            said.append(Said(source, f"{of}: facts", partial(_not_compared, self.there, facts), {}))
        return linked.saying(said)

    def _numbers(self) -> dict[str, int]:
        numbers = {
            name: self.frame["row"].filter(self.frame[name].list.len() > 0).n_unique() for name in _RESULTS
        }
        return {**numbers, "unsure": int(self.frame["no-twin-in open"].sum())}


def _how_it_came_out(there: str, numbers: Mapping[str, int], _: Sequence[str]) -> str:
    together, missing, differing = (numbers[name] for name in _RESULTS)
    remark = f"against {there}: {together:,} in both, {missing:,} not there, {differing:,} differ"
    return f"{remark}, {numbers['unsure']:,} not to be told" if numbers["unsure"] else remark


def _not_compared(there: str, facts: str, numbers: Mapping[str, int], names: Sequence[str]) -> str:
    return f"against {there}: {facts} cannot be compared: not supplied on both sides"


def _names(fact: str) -> pl.Expr:
    """Whether a fact is among those that could not be read."""
    unread = pl.col("unread")
    return (unread.list.contains(pl.lit(fact)) | unread.list.contains(pl.lit(NOTHING_KNOWN))).fill_null(False)
