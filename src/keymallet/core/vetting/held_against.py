"""What shows when planned accounts are held against each other and against what exists."""

from __future__ import annotations

import polars as pl

from keymallet.core.vetting.batch import Batch
from keymallet.core.vetting.existing import Existing

Marks = dict[str, pl.Series]
"""Facts of planned accounts, one value for each row of the batch."""
_NAMED = 10
"""So many of those that have something already are named."""


def marks_of_names(batch: Batch, existing: Existing) -> Marks:
    """Whether login name, mail address and lasting id are free, in the batch and in the target."""
    source = batch.target.source
    names = _folded(batch.written)
    target = existing.of_target(source, "name")
    marks = {
        "name-taken-by": _holders(names, _folded(target["name"]), target["account"]),
        "name-again": _again(names),
    }
    before = pl.Series(sorted({name.strip().lower() for name in existing.names_before}), dtype=pl.String)
    gone = before.filter(~before.is_in(_folded(target["name"]).implode()))
    marks["name-used-before"] = names.is_in(gone.implode()).fill_null(False)
    if "mail" in batch.accounts.columns:
        everybody = existing.accounts("mail", "person")
        mails = _folded(batch.accounts["mail"])
        marks["mail-taken-by"] = _holders(
            mails, _folded(everybody["mail"]), everybody["account"], _persons(batch), everybody["person"]
        )
    if "stable-id" in batch.accounts.columns:
        ids, taken = batch.accounts["stable-id"], existing.of_target(source, "stable-id")
        marks["id-taken-by"] = _holders(ids, taken["stable-id"], taken["account"])
        marks["id-again"] = _again(ids)
    return marks


def marks_of_people(batch: Batch, existing: Existing, persons: pl.Series) -> Marks:
    """Whether a person gets several accounts; `persons` are those of the rows, as linking has found them."""
    of_target = existing.of_target(batch.target.source, "person")
    return {
        "person-again": _again(persons),
        "person-has": _holders(persons, of_target["person"], of_target["account"]),
    }


def marks_of_places(batch: Batch, existing: Existing) -> Marks:
    """Whether unit, manager, owner and groups are those of anybody."""
    accounts, marks, source = batch.accounts, Marks(), batch.target.source
    people = existing.people
    if "unit" in accounts.columns:
        known = [existing.accounts("unit")["unit"], *([people["unit"]] if people is not None else [])]
        # Where no source tells of units, nothing says that one is not there.
        if any(units.count() for units in known):
            marks["unit-known"] = _known(accounts["unit"], known)
    if {"manager", "owner"} & set(accounts.columns):
        called = _everybody(batch, existing)
        for fact in ("manager", "owner"):
            if fact in accounts.columns:
                marks[f"{fact}-known"] = _known(accounts[fact], called)
    if "groups" in accounts.columns and source in existing.evidence.suppliers("account", "groups"):
        groups = existing.of_target(source, "groups")["groups"]
        in_use = groups.explode().unique().drop_nulls()
        asked = accounts["groups"].cast(pl.List(pl.String))
        marks["groups-unknown"] = _without(asked, in_use)
    return marks


def _everybody(batch: Batch, existing: Existing) -> list[pl.Series]:
    """All that somebody can be called who answers for an account: in any source, and in the batch."""
    accounts, people = existing.accounts("name", "mail", "person", "stable-id"), existing.people
    called = [accounts[name] for name in ("account", "name", "mail", "person", "stable-id")]
    if people is not None:
        called += [people[name] for name in ("person", "name", "mail") if name in people.columns]
    called += [batch.written]
    called += [batch.accounts[name] for name in ("mail", "person") if name in batch.accounts.columns]
    return called


def _persons(batch: Batch) -> pl.Series:
    if "person" in batch.accounts.columns:
        return batch.accounts["person"]
    return pl.Series([None], dtype=pl.String).new_from_index(0, batch.accounts.height)


def _folded(texts: pl.Series) -> pl.Series:
    """Texts as most systems compare names: without regard to case, and to blanks around them."""
    return texts.cast(pl.String).str.strip_chars().str.to_lowercase()


def _known(asked: pl.Series, known: list[pl.Series]) -> pl.Series:
    """Whether each value is one of these, in any case; null where there is none."""
    wanted = _folded(asked)
    few = wanted.unique().implode()
    there = pl.concat([folded.filter(folded.is_in(few)) for folded in map(_folded, known)]).unique()
    return wanted.is_in(there.implode())


def _again(values: pl.Series) -> pl.Series:
    """In how many other rows each value stands; 0 where there is none."""
    counted = pl.DataFrame({"value": values}).select(pl.len().over("value").cast(pl.Int64) - 1)
    return counted.to_series().set(values.is_null(), 0)


def _holders(
    asked: pl.Series,
    held: pl.Series,
    holders: pl.Series,
    persons: pl.Series | None = None,
    their_persons: pl.Series | None = None,
) -> pl.Series:
    """Who has each value already, the first few by name; with persons, only accounts of others."""
    there = pl.DataFrame({"value": held, "holder": holders.cast(pl.String)})
    mine = pl.DataFrame({"value": asked}).with_row_index("row")
    if persons is not None and their_persons is not None:
        there, mine = there.with_columns(theirs=their_persons), mine.with_columns(own=persons)
    there = there.join(mine.select("value").drop_nulls().unique(), on="value", how="semi")
    found = mine.drop_nulls("value").join(there, on="value", how="inner")
    if persons is not None:
        found = found.filter(~(pl.col("own") == pl.col("theirs")).fill_null(False))
    lists = (
        found.sort("row", "holder").group_by("row", maintain_order=True).agg(pl.col("holder").head(_NAMED))
    )
    empty = pl.lit([], dtype=pl.List(pl.String))
    joined = mine.select("row").join(lists, on="row", how="left", maintain_order="left")
    return joined.select(pl.col("holder").fill_null(empty)).to_series()


def _without(lists: pl.Series, known: pl.Series) -> pl.Series:
    """The members of each list that are none of these; none where a list is not known."""
    members = lists.alias("member").to_frame().with_row_index("row")
    strange = (
        members.explode("member").drop_nulls().join(known.alias("member").to_frame(), on="member", how="anti")
    )
    found = strange.group_by("row", maintain_order=True).agg("member")
    joined = members.select("row").join(found, on="row", how="left", maintain_order="left")
    return joined.select(pl.col("member").fill_null(pl.lit([], dtype=pl.List(pl.String)))).to_series()
