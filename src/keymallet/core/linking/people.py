"""The roster's people, once each, and managers by their number."""

from __future__ import annotations

import polars as pl

from keymallet.core.base.listing import some_names
from keymallet.core.facts.declaration import ACCOUNT, PERSON
from keymallet.core.facts.evidence import ORIGIN
from keymallet.core.linking.linked import LinkedReadings, LinkingRules


def drop_repeated_people(linked: LinkedReadings, rules: LinkingRules) -> LinkedReadings:
    """Keep of people who stand in several rosters what the first says, and say so."""
    people = linked.frame(PERSON)
    if people is None:
        return linked
    again = ~people["person"].is_first_distinct()
    if not again.any():
        return linked
    repeated = people.filter(again).select(pl.col(ORIGIN).cast(pl.String), "person")
    remarks = {
        str(source): [
            f"{part.height:,} people stand in an earlier roster, which counts: {some_names(part['person'])}"
        ]
        for (source,), part in repeated.partition_by(ORIGIN, as_dict=True).items()
    }
    return linked.with_frame(PERSON, people.filter(~again)).remarking(remarks)


def number_managers(linked: LinkedReadings, rules: LinkingRules) -> LinkedReadings:
    """Where a manager is an account of the same source, put the number of its person."""
    accounts = linked.accounts
    if not {"manager", "person"} <= set(accounts.columns) or not accounts["manager"].count():
        return linked
    for by in ("name", "stable-id"):
        if by not in accounts.columns:
            continue
        known = accounts.select("source", "person", manager=by).drop_nulls()
        known = known.unique(["source", "manager"], keep="none").rename({"person": "number"})
        numbered = accounts.join(known, on=["source", "manager"], how="left", maintain_order="left")
        accounts = numbered.with_columns(pl.coalesce("number", "manager").alias("manager")).drop("number")
    return linked.with_frame(ACCOUNT, accounts)
