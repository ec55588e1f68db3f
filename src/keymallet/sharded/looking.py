"""Accounts found by what people call them, in whichever shard they lie."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial

from keymallet.core.facts.lookup import (
    LOOKED_AT,
    Looked,
    Nearest,
    look_for,
    meant,
    nearest,
    not_there,
)
from keymallet.sharded.opened import Shards
from keymallet.sharded.tasks import Case


@dataclass(frozen=True)
class ToLookFor:
    """A shard in which an account is looked for."""

    case: Case
    shard: int
    wanted: str


def look_in_shard(asked: ToLookFor) -> Looked:
    """The accounts of a shard that match best."""
    return look_for(asked.case.opened().shard(asked.shard, LOOKED_AT), asked.wanted)


def nearest_in_shard(asked: ToLookFor) -> Nearest:
    """The accounts of a shard whose names come nearest."""
    return nearest(asked.case.opened().shard(asked.shard, LOOKED_AT), asked.wanted)


def find_in_shards(shards: Shards, wanted: str) -> list[tuple[int, int]]:
    """The accounts that are meant, each by its shard and its row there. Raises KeymalletError for none."""
    asked = partial(ToLookFor, wanted=wanted)
    found = meant(shards.each(look_in_shard, asked), wanted)
    if not found:
        raise not_there(shards.each(nearest_in_shard, asked), wanted)
    return found
