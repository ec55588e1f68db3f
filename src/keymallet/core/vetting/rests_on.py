"""Which columns of the file a finding is about: those of the facts that its rule rests on."""

from __future__ import annotations

from collections.abc import Iterator

import polars as pl

from keymallet.core.facts.declaration import ACCOUNT, PLANNED
from keymallet.core.language import typed
from keymallet.core.rulebook.model import Demand
from keymallet.core.vetting.batch import Batch

_RESTS_ON: dict[str, tuple[str, ...]] = {
    "name-taken-by": ("account.name",),
    "name-used-before": ("account.name",),
    "name-again": ("account.name",),
    "name-fits": ("account.name",),
    "mail-taken-by": ("account.mail",),
    "mail-again": ("account.mail",),
    "groups-of-power": ("account.groups",),
    "id-taken-by": ("account.stable-id",),
    "id-again": ("account.stable-id",),
    "person-again": ("account.person",),
    "person-has": ("account.person",),
    "unit-known": ("account.unit",),
    "manager-known": ("account.manager",),
    "owner-known": ("account.owner",),
    "groups-unknown": ("account.groups",),
    "groups-missing": ("account.groups",),
    "groups-surplus": ("account.groups",),
    "entitlements-missing": ("account.entitlements",),
    "entitlements-surplus": ("account.entitlements",),
    "initial-length": ("planned.password",),
    "initial-classes": ("planned.password",),
    "initial-strength": ("planned.password",),
    "initial-guessable": ("planned.password",),
    "initial-shared-with": ("planned.password",),
    "initial-pattern-with": ("planned.password",),
}
"""What the facts that are worked out of a batch rest on; the reason itself names what is missing."""

_WORKED_OUT: dict[str, tuple[str, ...]] = {
    "on-roster": ("account.person",),
    "manager-status": ("account.manager",),
    "owner-status": ("account.owner",),
    "created": (),
}


_LISTED = ("missing", "damaged", "not-taken")
"""Facts of planned accounts that name others: the ones that are missing, damaged or not taken."""


def cells_of(frame: pl.DataFrame, demand: Demand, rows: pl.Series, batch: Batch) -> pl.Series:
    """For each of these rows of the demand's table the columns of the file that its finding is about.

    They are those of the facts on which the expression on what must hold rests; where a fact lists what is
    wrong, those of what it lists, by the fact's own name where the file has no column of it.
    """
    lists = pl.List(pl.String)
    facts = list(dict.fromkeys(_facts(demand)))
    for fact in _LISTED:
        if f"{PLANNED.name}.{fact}" in facts:
            told = frame[fact].gather(rows).cast(lists).to_frame("told")
            named = pl.element().str.split(":").list.first().replace(_headers(batch))
            named_once = pl.col("told").list.eval(named).list.unique(maintain_order=True)
            return told.select(named_once).to_series()
    headers = list(dict.fromkeys(batch.told_by[fact] for fact in facts if fact in batch.told_by))
    return pl.Series([headers], dtype=lists).new_from_index(0, len(rows))


def _headers(batch: Batch) -> dict[str, str]:
    """The columns of the file by the facts of accounts that stand in them."""
    begin = f"{ACCOUNT.name}."
    return {
        fact.removeprefix(begin): header for fact, header in batch.told_by.items() if fact.startswith(begin)
    }


def _facts(demand: Demand) -> Iterator[str]:
    for node in demand.expressions[-1].walk():
        if not isinstance(node, typed.Fact):
            continue
        name = node.column.name
        if node.table == PLANNED.name:
            yield from _RESTS_ON.get(name, (f"{PLANNED.name}.{name}",))
        elif node.table == ACCOUNT.name:
            yield from _WORKED_OUT.get(name, (f"{ACCOUNT.name}.{name}",))
        else:
            yield f"{node.table}.{name}"
