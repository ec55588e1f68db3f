"""Planned accounts as evidence: linked to people, marked, and as if each had just been made."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime

import polars as pl

from keymallet.core.facts.declaration import (
    ACCOUNT,
    ELEVATION,
    FACTOR,
    GRANT,
    KEY,
    PLANNED,
    SIGN_IN,
    TABLES,
)
from keymallet.core.facts.evidence import INSTANT, PERSON_ROW, Evidence, data_type, in_full
from keymallet.core.facts.model import Kind
from keymallet.core.facts.reading import Reading
from keymallet.core.linking.linked import LinkedReadings, LinkingRules
from keymallet.core.linking.passes import link
from keymallet.core.vetting.batch import PASSWORD, Batch, has_password
from keymallet.core.vetting.existing import Existing
from keymallet.core.vetting.first_passwords import marks_of_passwords
from keymallet.core.vetting.held_against import (
    Marks,
    marks_of_names,
    marks_of_people,
    marks_of_places,
    named_by_number,
)
from keymallet.core.vetting.shape import marks_of_shape

FIRST_DAY = "first-day"
"""Column of planned accounts: the instant at which each begins, or that is judged at."""

_NOT_YET = "there is none before the account is made"
_NONE_YET = (FACTOR, KEY, GRANT, ELEVATION, SIGN_IN)
"""What belongs to an account: what the batch does not ask for will not be there."""
_SHARED = "password-shared-with"
_NEVER = ("locked-before", "password-set-with")
_NONE_UNLESS_ASKED = (Kind.TEXT, Kind.WORDS, Kind.INSTANT)
"""Facts of these kinds are there only where the batch asks for them; how switches stand it has to say."""


def planned_evidence(
    batch: Batch, existing: Existing, rules: LinkingRules, organisation: str, at: datetime
) -> Evidence:
    """The batch as evidence of its target, with the staff list, and what is in force in the target.

    No first password is in it. What only the batch can say is known: an account that has not been made has no
    sign-ins, and neither factor, key nor right that the batch does not ask for.
    """
    reading = _as_reading(batch, existing, at)
    within = LinkingRules(rules.clock, rules.match_rules)
    linked = link([reading, *existing.rosters()], within)
    marks = _marks(batch, existing, linked, organisation, at)
    linked = _with_planned(_before_any_use(linked), batch, marks)
    return Evidence(
        {name: in_full(TABLES[name], frame) for name, frame in linked.tables.items()},
        {each.source: each.supply for each in linked.readings},
        {each.source: at for each in linked.readings},
    )


def _before_any_use(linked: LinkedReadings) -> LinkedReadings:
    """What linking makes of accounts that nobody has used, as it will be.

    They were never locked. That all first passwords are set at once says nothing, and at whether two are the
    same rules on planned accounts look better.
    """
    never = [pl.lit(0, dtype=pl.Int64).alias(name) for name in _NEVER]
    nobody = pl.lit([], dtype=pl.List(pl.String)).alias(_SHARED)
    accounts = linked.accounts.with_columns(*never, nobody)
    return linked.with_frame(ACCOUNT, accounts).supplying(
        linked.suppliers(ACCOUNT), ACCOUNT, dict.fromkeys((*_NEVER, _SHARED), _NOT_YET)
    )


def _as_reading(batch: Batch, existing: Existing, at: datetime) -> Reading:
    """The batch as its target would tell of it on the first day of each account."""
    tables = {name: frame for name, frame in batch.tables.items() if name != PLANNED.name}
    supply = {name: dict(told) for name, told in batch.supply.items() if name != PLANNED.name}
    source = batch.target.source
    answering = {name for name in ("manager", "owner") if name in batch.accounts.columns}
    tables[ACCOUNT.name] = _on_first_day(batch, at).with_columns(
        named_by_number(batch.accounts[name], existing, source).alias(name) for name in sorted(answering)
    )
    told = supply[ACCOUNT.name]
    for name in tables[ACCOUNT.name].columns:
        if ACCOUNT.column(name) is not None:
            told.setdefault(name, _NOT_YET)
    for table in _NONE_YET:
        if table.name not in supply:
            supply[table.name] = dict.fromkeys(table.names, _NOT_YET)
        elif table is GRANT:
            tables[table.name], supply[table.name] = _direct(tables[table.name], supply[table.name])
    for name, frame in existing.in_force(source).items():
        tables[name] = frame
        supply[name] = dict(existing.evidence.supply.get(source, {}).get(name, {}))
        if not supply[name]:
            del tables[name], supply[name]
    return Reading(source, tables, supply)


def _direct(grants: pl.DataFrame, told: dict[str, str]) -> tuple[pl.DataFrame, dict[str, str]]:
    """Rights that a batch asks for: the account's own, held all the time, where it does not say."""
    usual = {"via": "direct", "mode": "standing"}
    given = [
        pl.lit(value).cast(data_type(column)).alias(name)
        for name, value in usual.items()
        if name not in told and (column := GRANT.column(name))
    ]
    return grants.with_columns(given), {**dict.fromkeys((*usual, "starts", "ends"), _NOT_YET), **told}


def _on_first_day(batch: Batch, at: datetime) -> pl.DataFrame:
    """The accounts as they will be when they begin: made then, never used, not locked."""
    frame = batch.accounts
    given = set(frame.columns)
    now = pl.lit(at, dtype=INSTANT)
    starts = pl.col("starts") if "starts" in given else pl.lit(None, dtype=INSTANT)
    frame = frame.with_columns(pl.max_horizontal(starts, now).alias(FIRST_DAY))
    facts: dict[str, pl.Expr] = {
        "created": pl.col(FIRST_DAY),
        "locked": pl.lit(value=False),
        "failed-attempts": pl.lit(0, dtype=pl.Int64),
        "built-in": pl.lit(value=False),
    }
    if _gives_passwords(batch):
        has = has_password(batch)
        frame = frame.with_columns(has.alias("has password"))
        facts |= {
            "has-password": pl.col("has password"),
            "password-empty": pl.lit(value=False),
            # What is said of passwords that stay the first one is not yet true: others look at it.
            "initial-password": pl.lit(value=False),
            "password-changed": pl.when(pl.col("has password")).then(pl.col(FIRST_DAY)),
        }
    frame = frame.with_columns(fact.alias(name) for name, fact in facts.items() if name not in given)
    nothing = [
        pl.lit([] if column.kind is Kind.WORDS else None, dtype=data_type(column)).alias(column.name)
        for column in ACCOUNT.columns
        if column.kind in _NONE_UNLESS_ASKED and not column.across and column.name not in frame.columns
    ]
    return frame.with_columns(nothing).drop("has password", strict=False)


def _gives_passwords(batch: Batch) -> bool:
    return PASSWORD in batch.supply.get(PLANNED.name, {})


def _marks(
    batch: Batch, existing: Existing, linked: LinkedReadings, organisation: str, at: datetime
) -> Marks:
    accounts = linked.accounts
    persons = accounts["person"] if "person" in accounts.columns else _none(batch.accounts.height)
    marks = marks_of_shape(batch) | marks_of_names(batch, existing) | marks_of_places(batch, existing)
    marks |= marks_of_people(batch, existing, persons)
    return marks | marks_of_passwords(batch, organisation, _names_of(accounts, existing), at)


def _none(height: int) -> pl.Series:
    return pl.Series([None], dtype=pl.String).new_from_index(0, height)


def _names_of(accounts: pl.DataFrame, existing: Existing) -> pl.DataFrame:
    """The names and the unit of the people that rows are for, row by row."""
    unit = accounts["unit"] if "unit" in accounts.columns else _none(accounts.height).alias("unit")
    people = existing.people
    if people is None or PERSON_ROW not in accounts.columns or "name" not in people.columns:
        return unit.to_frame()
    return pl.DataFrame([unit, people["name"].gather(accounts[PERSON_ROW]).alias("person's name")])


def _with_planned(linked: LinkedReadings, batch: Batch, marks: Marks) -> LinkedReadings:
    """The table of planned accounts, one row for each, without its passwords."""
    own = pl.lit(batch.target.source)
    accounts = linked.accounts
    height = batch.accounts.height
    frame = accounts.head(height).select("account").with_row_index("account-row")
    given = batch.tables.get(PLANNED.name)
    if given is not None:
        prefixed = given.drop(PASSWORD, strict=False).with_columns(
            (own + pl.lit("/") + pl.col("account")).alias("account")
        )
        frame = frame.join(prefixed, on="account", how="left", maintain_order="left")
    frame = frame.with_columns(values.alias(name) for name, values in marks.items())
    origin = accounts.head(height)["source"].alias("from-source")
    frame = in_full(PLANNED, frame).with_columns(origin, pl.col("account-row").cast(pl.UInt32))
    frame = frame.cast({column.name: data_type(column) for column in PLANNED.columns})
    # What nobody asks for, or the target says nothing of, is none; and known to be.
    told = dict.fromkeys(PLANNED.names, "the batch, held against what exists")
    told |= batch.supply.get(PLANNED.name, {})
    told.pop(PASSWORD)
    linked = linked.with_frame(PLANNED, frame)
    return replace(linked, readings=tuple(_told_by(each, batch, told) for each in linked.readings))


def _told_by(reading: Reading, batch: Batch, told: dict[str, str]) -> Reading:
    if reading.source != batch.target.source:
        return reading
    return replace(reading, supply={**reading.supply, PLANNED.name: told})
