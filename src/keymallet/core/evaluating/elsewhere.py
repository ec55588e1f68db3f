"""What a shard of the evidence has to know of all others, to be judged as if they lay side by side."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field

import polars as pl

from keymallet.core.base.columns import only_where
from keymallet.core.facts.declaration import PERSON, TABLES
from keymallet.core.facts.evidence import INSTANT
from keymallet.core.facts.shards import is_in_every_shard
from keymallet.core.language import typed
from keymallet.core.language.lowering import AT
from keymallet.core.language.typed import Typed
from keymallet.core.rulebook.model import Rulebook

OPEN = "open"
"""Whether, from an instant on, an account that may be anybody's may count."""
HASHES = ("hash-1", "hash-2")
"""What a value is known by outside its shard: two hashes of 64 bits, with seeds that are new each time."""


@dataclass(frozen=True)
class Anybodys:
    """Whether accounts that may be anybody's leave a question about people open: now, before and later.

    `past` and `future` are AT and OPEN, the first entry at the start of the stretch; None where it is never.
    """

    now: bool = False
    past: pl.DataFrame | None = None
    future: pl.DataFrame | None = None


@dataclass(frozen=True)
class Elsewhere:
    """What holds in other shards than the one that is judged.

    `rulebook` is the whole one, though some of it is not judged shard by shard. `is_first`: what lies in
    every shard is judged in this one. `anybodys` is by question; it may count the shard's own accounts
    besides. `sharers` is by what must not be shared: HASHES of those values of the shard that are held
    elsewhere as well, how many there count or may count, and who (see `linking.unshared`,
    `explaining.sharers`).
    """

    rulebook: Rulebook
    is_first: bool
    seeds: tuple[int, int]
    anybodys: Mapping[typed.RowQuery, Anybodys] = field(default_factory=dict)
    sharers: Mapping[typed.Unshared, pl.DataFrame] = field(default_factory=dict)

    def of_values(self, node: typed.Unshared, values: pl.Series) -> pl.DataFrame | None:
        """What `sharers` has on each of these values, null for those of this shard alone; None: nothing."""
        known = self.sharers.get(node)
        if known is None or not known.height:
            return None
        keys = hashed(values, self.seeds)
        return keys.join(known, on=list(HASHES), how="left", maintain_order="left").drop(HASHES)


def hashed(values: pl.Series, seeds: tuple[int, int]) -> pl.DataFrame:
    """HASHES of values; null for those that are not known."""
    texts = values if values.dtype == pl.String else values.cast(pl.String)
    return pl.DataFrame(
        {
            name: only_where(texts.is_not_null(), texts.hash(seed))
            for name, seed in zip(HASHES, seeds, strict=True)
        }
    )


def crossing(expressions: Iterable[tuple[str, Typed]]) -> list[list[Typed]]:
    """What is asked across shards, in steps: what a later step asks may rest on answers of an earlier one."""
    steps: dict[int, dict[Typed, None]] = {}
    for _, expression in expressions:
        _step(expression, steps)
    return [list(steps[step]) for step in sorted(steps)]


def _step(node: Typed, steps: dict[int, dict[Typed, None]]) -> int:
    below = max((_step(part, steps) for part in node.parts), default=0)
    if not _crosses(node):
        return below
    steps.setdefault(below + 1, {})[node] = None
    return below + 1


def _crosses(node: Typed) -> bool:
    if isinstance(node, typed.Unshared):
        return not is_in_every_shard(node.table)
    # What is latest or earliest is told of the rows that are surely somebody's.
    return (
        isinstance(node, typed.RowQuery) and TABLES[node.table].owner == PERSON.name and node.column is None
    )


def any_of(found: Sequence[Anybodys]) -> Anybodys:
    """Whether any of these leave a question open."""
    return Anybodys(
        any(each.now for each in found),
        _united(each.past for each in found),
        _united(each.future for each in found),
    )


def _united(parts: Iterable[pl.DataFrame | None]) -> pl.DataFrame | None:
    there = [part for part in parts if part is not None]
    return either(there) if there else None


def either(parts: Sequence[pl.DataFrame]) -> pl.DataFrame:
    """Where any of several functions of time is true: AT and OPEN, ordered, each entry unlike the one before.

    All begin at the same instant.
    """
    return only_turns(
        pl.concat(_rises(part) for part in parts)
        .group_by(AT)
        .agg(pl.col("rise").sum())
        .sort(AT)
        .select(AT, (pl.col("rise").cum_sum() > 0).alias(OPEN))
    )


def _rises(part: pl.DataFrame) -> pl.DataFrame:
    before = pl.col(OPEN).shift(fill_value=False).cast(pl.Int64)
    return part.select(pl.col(AT).cast(INSTANT), (pl.col(OPEN).cast(pl.Int64) - before).alias("rise"))


def only_turns(function: pl.DataFrame) -> pl.DataFrame:
    """Without the entries at which OPEN stays as it is."""
    return function.filter(pl.col(OPEN).ne_missing(pl.col(OPEN).shift()))
