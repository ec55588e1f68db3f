"""What only shows when all openings lie side by side: stretches that add up, approvals, copied reasons.

An opening counts from its start until it was closed, or until it is planned to. One after the other
within `BACK_TO_BACK` they are one unbroken stretch of privilege, whatever roles they are of.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import timedelta

import polars as pl

from keymallet.core.base.columns import only_where
from keymallet.core.base.intervals import START, STOP, held_before, holds_at, unbroken, within
from keymallet.core.facts.declaration import ELEVATION, GRANT, SIGN_IN
from keymallet.core.facts.evidence import ACCOUNT_ROW, INSTANT, ORIGIN
from keymallet.core.linking.filler_reasons import is_filler
from keymallet.core.linking.linked import LinkedReadings, LinkingRules, of_sources

BACK_TO_BACK = timedelta(minutes=15)
WEEK = timedelta(days=7)
_RESTS_ON = {
    "lasted": "starts",
    "stretch": "starts",
    "opened-in-week": "starts",
    "approves-itself": "approved-by",
    "hollow-reason": "reason",
    "same-reason": "reason",
    "entitled": "role",
}
"""Columns entered on openings, each with the column that a source has to supply for it."""

_TOLD = "all openings side by side"


def reasons_given(linked: LinkedReadings, rules: LinkingRules, _: None) -> pl.DataFrame | None:
    """How many openings were asked for in the same words: `words`, as two hashes, and `number`."""
    elevations = linked.frame(ELEVATION)
    if elevations is None or "reason" not in elevations.columns or not elevations.height:
        return None
    return _words_of(elevations).group_by("words", "again").len("number")


def counted_together(parts: Sequence[pl.DataFrame]) -> pl.DataFrame:
    """The same of all parts."""
    return (
        parts[0]
        if len(parts) == 1
        else pl.concat(parts).group_by("words", "again").agg(pl.col("number").sum())
    )


def mark_elevation_spans(
    linked: LinkedReadings, rules: LinkingRules, reasons: pl.DataFrame | None
) -> LinkedReadings:
    """Enter on openings what they add up to and who approved them; on the rest when it was open."""
    suppliers = linked.suppliers(ELEVATION)
    elevations, grants = linked.frame(ELEVATION), linked.frame(GRANT)
    if elevations is None or not suppliers:
        return linked
    accounts = linked.accounts
    opened = elevation_spans(elevations)
    entered = [
        *_adding_up(opened),
        _self_approved(elevations, accounts),
        *_reasons(elevations, reasons),
        _entitled(elevations, grants),
    ]
    telling = {column: linked.suppliers(ELEVATION, needed) for column, needed in _RESTS_ON.items()}
    linked = linked.with_frame(
        ELEVATION,
        elevations.with_columns(_of_sources(elevations, series, telling[series.name]) for series in entered),
    )
    if grants is not None:
        linked = linked.with_frame(GRANT, _with_last_opened(grants, elevations))
    sign_ins = linked.frame(SIGN_IN)
    if sign_ins is not None and "at" in sign_ins.columns:
        open_then = holds_at(
            unbroken(opened, ACCOUNT_ROW), sign_ins.select(ACCOUNT_ROW, "at"), ACCOUNT_ROW
        ).alias("in-opening")
        marked = sign_ins.with_columns(_of_sources(sign_ins, open_then, suppliers))
        linked = linked.with_frame(SIGN_IN, marked)
    for column, sources in telling.items():
        linked = linked.supplying(sources, ELEVATION, {column: _TOLD})
    for table, column in ((GRANT, "last-opened"), (SIGN_IN, "in-opening")):
        supplied = [source for source in linked.suppliers(table) if source in suppliers]
        linked = linked.supplying(supplied, table, {column: _TOLD})
    return linked


def _of_sources(frame: pl.DataFrame, values: pl.Series, sources: list[str]) -> pl.Series:
    """The values, of rows that come from these sources alone."""
    here = frame.select(of_sources(sources, ORIGIN)).to_series()
    return only_where(here, values).alias(values.name)


def elevation_spans(elevations: pl.DataFrame) -> pl.DataFrame:
    """Each elevation as a span of its account: ACCOUNT_ROW, START and STOP; null where it never began."""
    columns = elevations.columns
    closed = pl.col("closed") if "closed" in columns else pl.lit(None, dtype=INSTANT)
    opened = (pl.col("outcome").cast(pl.String) == "opened") if "outcome" in columns else pl.lit(True)
    starts, ends = (
        pl.col(name) if name in columns else pl.lit(None, dtype=INSTANT) for name in ("starts", "ends")
    )
    return elevations.select(
        ACCOUNT_ROW,
        pl.when(opened).then(starts).alias(START),
        pl.when(opened).then(pl.coalesce(closed, ends)).alias(STOP),
    )


def _adding_up(opened: pl.DataFrame) -> list[pl.Series]:
    """How long each lasted, the unbroken stretch it is part of, and all of the week up to its end."""
    stretches = within(opened, unbroken(opened, ACCOUNT_ROW, BACK_TO_BACK), ACCOUNT_ROW)
    unions = unbroken(opened, ACCOUNT_ROW)
    # The week is that which ends with the elevation itself, not one of the calendar.
    ends = opened.select(ACCOUNT_ROW, at=STOP)
    # What was held up to the end, less what was held up to a week before it: overlaps count once.
    week = held_before(unions, ends, ACCOUNT_ROW) - held_before(
        unions, ends.with_columns(pl.col("at") - WEEK), ACCOUNT_ROW
    )
    return [
        (opened[STOP] - opened[START]).alias("lasted"),
        (stretches[STOP] - stretches[START]).alias("stretch"),
        pl.DataFrame({"week": week, "start": opened[START]})
        .select(pl.when(pl.col("start").is_not_null()).then("week").alias("opened-in-week"))
        .to_series(),
    ]


def _self_approved(elevations: pl.DataFrame, accounts: pl.DataFrame) -> pl.Series:
    """Whether it was approved by who asked: by that account, or another account of the same person.

    The approver may be written as source/name, login name, mail address or number of the person. Null
    where no approver is known.
    """
    if "approved-by" not in elevations.columns:
        return pl.Series("approves-itself", [None], dtype=pl.Boolean).new_from_index(0, elevations.height)
    asked = elevations.select(ACCOUNT_ROW, by=pl.col("approved-by").str.to_lowercase()).with_row_index(
        "place"
    )
    numbered = accounts.with_row_index("row").with_columns(pl.col("row").cast(pl.UInt32))
    askers = numbered.filter(pl.col("row").is_in(asked[ACCOUNT_ROW].drop_nulls().implode()))
    own = _called(askers, "row").rename({"row": ACCOUNT_ROW})
    places = [asked.join(own, on=[ACCOUNT_ROW, "by"], how="semi")["place"]]
    if "person" in accounts.columns:
        persons = askers.select(pl.col("row").alias(ACCOUNT_ROW), "person").drop_nulls()
        of_askers = numbered.join(persons.select("person").unique(), on="person", how="semi")
        by_person = asked.join(persons, on=ACCOUNT_ROW, how="inner")
        places.append(by_person.join(_called(of_askers, "person"), on=["person", "by"], how="semi")["place"])
    same = pl.repeat(False, elevations.height, dtype=pl.Boolean, eager=True).scatter(pl.concat(places), True)
    return only_where(asked["by"].is_not_null(), same).alias("approves-itself")


def _called(accounts: pl.DataFrame, key: str) -> pl.DataFrame:
    """All that accounts may be called by, in small letters, each with the key."""
    names = [name for name in ("account", "name", "mail", "person") if name in accounts.columns]
    listed = [accounts.select(key, by=pl.col(name).str.to_lowercase()) for name in names]
    return pl.concat(listed).drop_nulls().unique()


def _reasons(elevations: pl.DataFrame, given: pl.DataFrame | None) -> list[pl.Series]:
    """Whether each reason says nothing, and how many other openings were asked for in the same words."""
    if "reason" not in elevations.columns or given is None:
        unknown = pl.Series([None]).new_from_index(0, elevations.height)
        return [unknown.cast(pl.Boolean).alias("hollow-reason"), unknown.cast(pl.Int64).alias("same-reason")]
    counted = _words_of(elevations).join(given, on=["words", "again"], how="left", maintain_order="left")
    alike = counted.select(
        pl.when("told").then(pl.col("number").cast(pl.Int64) - 1).otherwise(0).alias("same-reason")
    )
    return [is_filler(elevations["reason"]).alias("hollow-reason"), alike["same-reason"]]


def _words_of(elevations: pl.DataFrame) -> pl.DataFrame:
    """The words of each reason as two hashes, so that there is little to tell; `told` if there are any."""
    words = pl.col("reason").str.to_lowercase().str.replace_all(r"[\W_]+", " ").str.strip_chars()
    return elevations.select(words).select(
        words=pl.col("reason").hash(1),
        again=pl.col("reason").hash(2),
        told=(pl.col("reason").str.len_chars() > 0).fill_null(False),
    )


def _entitled(elevations: pl.DataFrame, grants: pl.DataFrame | None) -> pl.Series:
    """Whether the account held the right to ask for the role when it was opened.

    Null where the source tells of no such right at all: it may have been taken away since.
    """
    nothing = pl.Series("entitled", [None], dtype=pl.Boolean).new_from_index(0, elevations.height)
    if grants is None or not {"role", "mode"} <= set(grants.columns):
        return nothing
    if not {"role", "starts"} <= set(elevations.columns):
        return nothing
    no_instant = pl.lit(None, dtype=INSTANT)
    rights = grants.filter(pl.col("mode").cast(pl.String) == "on-request").select(
        ACCOUNT_ROW,
        "role",
        first=pl.col("starts") if "starts" in grants.columns else no_instant,
        last=pl.col("ends") if "ends" in grants.columns else no_instant,
    )
    asked = elevations.select(ACCOUNT_ROW, "role", "starts").with_row_index("place")
    held = (pl.col("first") <= pl.col("starts")).fill_null(True) & (
        pl.col("starts") < pl.col("last")
    ).fill_null(True)
    held_then = (
        asked.join(rights, on=[ACCOUNT_ROW, "role"], how="inner")
        .group_by("place")
        .agg(held.any().alias("entitled"))
    )
    answers = asked.join(held_then, on="place", how="left", maintain_order="left")
    opened = elevations["outcome"].cast(pl.String) == "opened" if "outcome" in elevations.columns else None
    entitled = answers["entitled"]
    return entitled if opened is None else only_where(opened, entitled).alias("entitled")


def _with_last_opened(grants: pl.DataFrame, elevations: pl.DataFrame) -> pl.DataFrame:
    """The grants, with when each right was last opened."""
    if not {"role", "starts", "outcome"} <= set(elevations.columns) or "role" not in grants.columns:
        return grants
    opened = elevations.filter(pl.col("outcome").cast(pl.String) == "opened")
    last = opened.group_by(ACCOUNT_ROW, "role").agg(pl.col("starts").max().alias("last-opened"))
    bare = grants.drop("last-opened", strict=False)
    return bare.join(last, on=[ACCOUNT_ROW, "role"], how="left", maintain_order="left")
