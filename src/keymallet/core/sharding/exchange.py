"""What shards tell each other before they are judged: of accounts that may be anybody's, of shared values."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import polars as pl

from keymallet.core.base.listing import MOST_NAMED
from keymallet.core.evaluating.context import EvaluationContext, decisive
from keymallet.core.evaluating.elsewhere import HASHES, Anybodys, hashed
from keymallet.core.evaluating.timeline import Timeline
from keymallet.core.explaining.sharers import AFTER, ALL, BEFORE, NAMES, named_holders
from keymallet.core.language import typed
from keymallet.core.language.typed import Typed
from keymallet.core.linking.unshared import MAY, SURE, holders

HELD = {
    **dict.fromkeys(HASHES, pl.UInt64()),
    SURE: pl.UInt32(),
    MAY: pl.UInt32(),
    NAMES: pl.List(pl.String()),
    ALL: pl.Int64(),
}
"""What a shard tells of a value it holds: HASHES of it, how many count and may count, the first few names."""
SHARED = {
    **{name: HELD[name] for name in (*HASHES, SURE, MAY)},
    **{f"{when}-{name}": HELD[name] for when in (BEFORE, AFTER) for name in (NAMES, ALL)},
}
"""What a shard is told of a value that others hold as well, by those before it and after it."""
_SHARD, _OTHER = "shard", "other"


@dataclass(frozen=True)
class Told:
    """What one shard tells of the questions of one step, each by its place in the step.

    `anybodys` has the questions about people that its accounts leave open; `held` is HELD of every value that
    must not be shared.
    """

    anybodys: Mapping[int, Anybodys]
    held: Mapping[int, pl.DataFrame]


def told(context: EvaluationContext, step: Sequence[Typed], seeds: tuple[int, int]) -> Told:
    """Work out what others have to know; what earlier steps ask must be in the context's `elsewhere`."""
    anybodys: dict[int, Anybodys] = {}
    held = {}
    for place, node in enumerate(step):
        if isinstance(node, typed.RowQuery):
            maybe = context.may_belong()
            if len(maybe.anybodys):
                is_open = maybe.are_open(decisive(node, context.truth(node)))
                past, future = (
                    stretch.open_by_anybodys(node) if stretch.moves(node) else None
                    for stretch in (Timeline.until_now(context), Timeline.from_now(context))
                )
                anybodys[place] = Anybodys(is_open, past, future)
        else:
            assert isinstance(node, typed.Unshared)
            held[place] = _held(context, node, seeds)
    return Told(anybodys, held)


def _held(context: EvaluationContext, node: typed.Unshared, seeds: tuple[int, int]) -> pl.DataFrame:
    context.prepare([(node.table, part) for part in node.parts])
    who, value, _, owner = context.held(node)
    counted = holders(who, value, owner).join(named_holders(context, node), on="value", how="left")
    known = hashed(counted["value"], seeds).hstack(counted.drop("value"))
    return known.select(pl.col(name).cast(kind) for name, kind in HELD.items())


def shared_among(held: Sequence[pl.DataFrame]) -> list[pl.DataFrame]:
    """SHARED for each shard, from HELD of all of them in their order: what more than one of them holds."""
    together = pl.concat([frame.with_columns(pl.lit(n).alias(_SHARD)) for n, frame in enumerate(held)])
    shared = together.filter(pl.len().over(HASHES) > 1)
    mine = shared.select(*HASHES, pl.col(_SHARD).alias(_OTHER))
    pairs = mine.join(shared, on=list(HASHES), how="inner").filter(pl.col(_SHARD) != pl.col(_OTHER))
    sums = [pl.col(SURE, MAY).sum().cast(pl.UInt32)]
    for when, side in ((BEFORE, pl.col(_SHARD) < pl.col(_OTHER)), (AFTER, pl.col(_SHARD) > pl.col(_OTHER))):
        ordered = pl.col(NAMES).filter(side).sort_by(pl.col(_SHARD).filter(side))
        sums.append(ordered.explode().drop_nulls().head(MOST_NAMED).alias(f"{when}-{NAMES}"))
        sums.append(pl.col(ALL).filter(side).sum().alias(f"{when}-{ALL}"))
    merged = pairs.group_by(_OTHER, *HASHES).agg(sums)
    return [
        merged.filter(pl.col(_OTHER) == n).select(pl.col(name).cast(kind) for name, kind in SHARED.items())
        for n in range(len(held))
    ]
