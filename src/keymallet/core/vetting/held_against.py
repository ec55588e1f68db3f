"""What shows when planned accounts are held against each other and against what exists."""

from __future__ import annotations

import re
from typing import Literal

import polars as pl

from keymallet.core.facts.declaration import GRANT
from keymallet.core.facts.evidence import ACCOUNT_ROW
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
    before = _folded(pl.Series(sorted(existing.names_before), dtype=pl.String)).unique()
    gone = before.filter(~before.is_in(_folded(target["name"]).implode()))
    marks["name-used-before"] = names.is_in(gone.implode()).fill_null(False)
    if "mail" in batch.accounts.columns:
        everybody = existing.accounts("mail", "person")
        mails = _folded(batch.accounts["mail"])
        marks["mail-taken-by"] = _holders(
            mails, _folded(everybody["mail"]), everybody["account"], _persons(batch), everybody["person"]
        )
        marks["mail-again"] = _again(mails)
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
        marks["groups-unknown"] = _those(asked, in_use, how="anti")
        marks["groups-of-power"] = _those(asked, _groups_of_power(existing, source), how="semi")
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


def named_by_number(named: pl.Series, existing: Existing, source: str) -> pl.Series:
    """Who answers for accounts, by the number of the person where an account is named; else as it stands.

    An account of the target goes before one of another source; what several people have is left open.
    """
    accounts = existing.accounts("name", "mail", "person", "stable-id").drop_nulls("person")
    wanted = _folded(named)
    few = wanted.drop_nulls().unique().alias("called").to_frame()
    parts = []
    for rank, frame in enumerate((accounts.filter(pl.col("source") == source), accounts)):
        for by in ("name", "account", "mail", "stable-id"):
            called = pl.DataFrame({"called": _folded(frame[by]), "person": frame["person"]}).drop_nulls()
            parts.append(called.join(few, on="called", how="semi").with_columns(rank=pl.lit(rank)))
    known = pl.concat(parts).unique()
    known = known.filter(pl.col("rank") == pl.col("rank").min().over("called")).drop("rank").unique()
    known = known.unique("called", keep="none")
    rows = pl.DataFrame({"called": wanted, "as it stands": named.cast(pl.String)})
    joined = rows.join(known, on="called", how="left", maintain_order="left")
    return joined.select(pl.coalesce("person", "as it stands")).to_series()


def _persons(batch: Batch) -> pl.Series:
    if "person" in batch.accounts.columns:
        return batch.accounts["person"]
    return pl.Series([None], dtype=pl.String).new_from_index(0, batch.accounts.height)


def _folded(texts: pl.Series) -> pl.Series:
    """Texts as most systems compare names: whatever their case, blanks around them, and way of accents."""
    return texts.cast(pl.String).str.normalize("NFC").str.strip_chars().str.to_lowercase()


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


_PATH = re.compile(r"\s*(?:[,;>/\u2192]|\sin\s|^groups?\s)\s*")
_FEWEST_MEMBERS = 2
"""A group of so many, all of whom hold privilege, is taken for one that brings it."""


def _groups_of_power(existing: Existing, source: str) -> pl.Series:
    """Groups of a source that bring privilege: it is held by way of them, or all their members hold some."""
    grants = existing.evidence.tables.get(GRANT.name)
    nothing = pl.Series("member", [], dtype=pl.String)
    if grants is None or source not in existing.evidence.suppliers(GRANT.name, "privileged"):
        return nothing
    held = grants.filter(pl.col("privileged").fill_null(value=False) & pl.col(ACCOUNT_ROW).is_not_null())
    # Of a path of groups each leads there; what is no group is none that a batch could ask for.
    paths = held["via"].cast(pl.String).drop_nulls().unique().to_list()
    ways = pl.Series([part for path in paths for part in _PATH.sub("\0", path).split("\0")], dtype=pl.String)
    everybody = existing.accounts("groups").with_row_index(ACCOUNT_ROW)
    members = (
        everybody.filter(pl.col("source") == source).select(ACCOUNT_ROW, member="groups").explode("member")
    )
    powerful = held.select(ACCOUNT_ROW).unique().with_columns(power=pl.lit(value=True))
    counted = (
        members.drop_nulls()
        .join(powerful, on=ACCOUNT_ROW, how="left")
        .group_by("member")
        .agg(pl.len().alias("all"), pl.col("power").count())
        .filter((pl.col("all") >= _FEWEST_MEMBERS) & (pl.col("all") == pl.col("power")))
    )
    return pl.concat([nothing, ways.alias("member"), counted["member"]]).unique()


def _those(lists: pl.Series, known: pl.Series, *, how: Literal["anti", "semi"]) -> pl.Series:
    """The members of each list that are among these, or none of them; none where a list is not known."""
    members = lists.alias("member").to_frame().with_row_index("row")
    strange = (
        members.explode("member").drop_nulls().join(known.alias("member").to_frame(), on="member", how=how)
    )
    found = strange.group_by("row", maintain_order=True).agg("member")
    joined = members.select("row").join(found, on="row", how="left", maintain_order="left")
    return joined.select(pl.col("member").fill_null(pl.lit([], dtype=pl.List(pl.String)))).to_series()
