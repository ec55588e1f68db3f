"""The table of linking passes: its order, and that each pass keeps to what it says it needs and makes."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime
from pathlib import Path

import polars as pl
import pytest
from polars.testing import assert_frame_equal

from keymallet.core.facts.declaration import ACCOUNT, PERSON, TABLES, TOLD_TABLES
from keymallet.core.facts.evidence import ACCOUNT_ROW, CANDIDATES, ORIGIN, PERSON_ROW, UNREAD
from keymallet.core.facts.model import Table
from keymallet.core.facts.reading import Reading
from keymallet.core.judging.register_facts import OF_ACCOUNTS
from keymallet.core.linking.assembling import assemble
from keymallet.core.linking.declared import Federation
from keymallet.core.linking.linked import LinkedReadings, LinkingRules
from keymallet.core.linking.passes import PASSES, Pass, link
from keymallet.sources.estate import read_estate
from keymallet.sources.reading import read_sources
from tests.support import RULES, evidence, linked

LINKS = {ACCOUNT_ROW, PERSON_ROW, CANDIDATES, ORIGIN, UNREAD, "account", "source"}
"""Columns by which rows are linked and accounted for: every pass may read and change them."""
OF_THE_REGISTER = {f"account.{name}" for name in OF_ACCOUNTS} | {"sign-in.explained"}


def test_nothing_needs_what_a_later_pass_makes() -> None:
    """A column that is only there once sources lie side by side is made before it is needed."""
    made: set[str] = set()
    for step in PASSES:
        for name in step.needs:
            table, column = name.split(".")
            fact = TABLES[table].column(column)
            assert fact is not None, name
            assert not fact.across or name in made, f"{step.name} needs {name}, which is made later"
        made |= set(step.makes)


def test_who_supplies_a_table_with_some_columns() -> None:
    """All of them, and whoever supplies no more than these."""
    found = linked(evidence([{"name": "a", "enabled": True}]))
    (source,) = (reading.source for reading in found.readings)
    columns = list(found.readings[0].supply["account"])
    table = TABLES["account"]
    assert found.suppliers(table, *columns) == [source] == found.suppliers(table)
    assert found.suppliers(table, *columns, "mail-of-nobody") == []


def test_whatever_shows_only_side_by_side_is_made_by_one_pass() -> None:
    """A column declared so and made by nobody would be unknown for ever."""
    across = {
        f"{table.name}.{column.name}"
        for table in TABLES.values()
        if table.name not in ("exemption", "planned")
        for column in table.columns
        if column.across
    }
    made = [name for step in PASSES for name in step.makes]
    assert across - set(made) == OF_THE_REGISTER
    assert len(made) == len(set(made))
    # What a source may tell and a pass puts right; of all else, no source tells.
    put_right = {name for name in made if not name.startswith("setting.")} - across
    assert put_right == {"account.manager", "account.password-digest", "account.person", "person.person"}


@pytest.fixture(scope="module")
def stages(railway_snapshot: Path) -> tuple[LinkingRules, list[tuple[Pass, LinkedReadings, LinkedReadings]]]:
    """Each pass with what it is given and what it gives, on the railway's evidence."""
    estate = read_estate(railway_snapshot / "estate.toml")
    linked = assemble(read_sources(estate.sources, estate, datetime.fromisoformat("2026-11-24T09:00Z")))
    steps = []
    for step in PASSES:
        after = step.alone(linked, estate.linking)
        steps.append((step, linked, after))
        linked = after
    return estate.linking, steps


@pytest.mark.parametrize("place", range(len(PASSES)), ids=[step.name for step in PASSES])
def test_a_pass_changes_what_it_says_it_makes_and_nothing_else(stages, place: int) -> None:  # type: ignore[no-untyped-def]
    """Neither the frames it was given nor the notes: it gives back new ones."""
    _, steps = stages
    step, before, after = steps[place]
    for name, frame in after.tables.items():
        allowed = {made.partition(".")[2] for made in step.makes if made.partition(".")[0] == name} | LINKS
        if name not in before.tables:
            assert set(frame.columns) <= allowed
            continue
        was = before.tables[name]
        same = [column for column in was.columns if column not in allowed]
        assert set(frame.columns) - set(was.columns) <= allowed
        assert_frame_equal(frame.select(same), was.select(same))
    assert all(one.source == other.source for one, other in zip(before.readings, after.readings, strict=True))


@pytest.mark.parametrize("place", range(len(PASSES)), ids=[step.name for step in PASSES])
def test_a_pass_reads_what_it_says_it_needs_and_nothing_else(stages, place: int) -> None:  # type: ignore[no-untyped-def]
    """Given only those columns, it makes the same."""
    rules, steps = stages
    step, before, after = steps[place]
    bare = {
        name: frame.select(
            column for column in frame.columns if column in LINKS or f"{name}.{column}" in step.needs
        )
        for name, frame in before.tables.items()
    }
    again = step.alone(replace(before, tables=bare), rules)
    for made in step.makes:
        table, column = made.split(".")
        if table in after.tables and column in after.tables[table].columns:
            assert_frame_equal(_column(again, table, column), _column(after, table, column))


def _column(linked: LinkedReadings, table: str, column: str) -> pl.DataFrame:
    return linked.tables[table].select(column)


def test_managers_are_found_by_name_or_by_lasting_id() -> None:
    """Where a source tells only one of the two, that one will do; of two of one name, neither."""
    boss = {"name": "boss", "person": "7", "stable-id": "id-boss"}
    for by, manager in (("name", "boss"), ("stable-id", "id-boss")):
        rows = [
            {**boss, "manager": None},
            {"name": "a", "person": "1", "manager": manager, "stable-id": "id-a"},
        ]
        rows = [{key.replace("-", "_"): value for key, value in row.items()} for row in rows]
        given = linked(evidence(rows))
        frame = given.accounts.drop({"name": "stable-id", "stable-id": "name"}[by])
        (step,) = (step for step in PASSES if step.name == "number_managers")
        found = step.alone(given.with_frame(TABLES["account"], frame), RULES)
        assert found.accounts["manager"].to_list() == [None, "7"], by


@pytest.mark.parametrize(
    "table", [table for table in TOLD_TABLES.values() if table is not PERSON], ids=lambda t: t.name
)
def test_a_system_that_has_none_beside_one_that_tells_little(table: Table) -> None:
    """Every column is supplied by the one and stands in no frame: nothing may rely on its being there."""
    names = {"a": pl.DataFrame({"name": ["alma"]}), "b": pl.DataFrame({"name": ["bruno"]})}
    little = pl.DataFrame({table.required: ["bruno"]})
    if table is ACCOUNT:
        little = names["b"]
    has_none = Reading(
        "a",
        {"account": names["a"]},
        {"account": {"name": "a"}, table.name: dict.fromkeys(table.names, "none")},
    )
    tells = {"account": {"name": "b"}, table.name: {table.required: "b"}}
    tells_little = Reading("b", {"account": names["b"], table.name: little}, tells)
    for readings in ([has_none, tells_little], [tells_little, has_none]):
        found = link(readings, replace(RULES, federations=(Federation("a", "b"),)))
        assert found.tables["account"].height == 2
