"""Every fact says how it is spoken, in forms that fit its type; `-s` prints all of them as a table."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import polars as pl
import pytest

from keymallet.core.facts.declaration import TABLES
from keymallet.core.facts.model import Column, Kind, Table
from keymallet.core.facts.phrases import FORMS, READ_WORDS, phrase, spoken

NOW = datetime(2026, 11, 24, 9, tzinfo=UTC)
ALL = [(table, column) for table in TABLES.values() for column in table.columns]
HOLDS_ITS_VALUE = (Kind.COUNT, Kind.SPAN, Kind.TEXT, Kind.WORD, Kind.WORDS)
MOST_FORMS = {Kind.FLAG: 2, Kind.INSTANT: 3, Kind.COUNT: 3}


@pytest.mark.parametrize(("table", "column"), ALL, ids=[f"{t.name}.{c.name}" for t, c in ALL])
def test_a_fact_is_spoken_in_the_forms_of_its_type(table: Table, column: Column) -> None:
    """A flag in two, an instant with what is said of none; figures and names where their phrase has room."""
    assert column.said, f"{table.name}.{column.name} is not spoken"
    forms = column.said.split(FORMS)
    assert all(forms), column.said
    assert len(set(forms)) == len(forms), column.said
    assert len(forms) <= MOST_FORMS.get(column.kind, 2), column.said
    if column.kind is Kind.FLAG:
        assert len(forms) == 2, column.said
    if column.kind is Kind.INSTANT:
        assert len(forms) >= 2, column.said
    said = phrase(column)
    for form in (said.first, said.second):
        assert form.count("{}") == (column.kind in HOLDS_ITS_VALUE), column.said
    assert "{}" not in said.none
    print(f"{table.name + '.' + column.name:36} {column.said}")


def test_a_row_of_every_table_has_a_name() -> None:
    """One and several."""
    assert all(len(table.said.split(FORMS)) == 2 for table in TABLES.values())


def test_words_that_are_read_otherwise_are_words_of_a_closed_set() -> None:
    """None is left over from a word that is gone."""
    assert set(READ_WORDS) <= {word for _, column in ALL for word in column.words}


def test_forms_follow_the_value() -> None:
    """Past and to come, one and several, none."""
    account, key = TABLES["account"], TABLES["key"]

    def say(table: Table, name: str, values: list[object], kind: pl.DataType | None = None) -> list[str]:
        column = table.column(name)
        assert column is not None
        frame = pl.DataFrame({"v": pl.Series(values, dtype=kind)})
        written = pl.col("v").list.join(", ") if column.kind is Kind.WORDS else pl.col("v").cast(pl.String)
        return (
            frame.select(spoken(column, pl.col("v"), written, pl.lit(NOW)).alias("=")).to_series().to_list()
        )

    ended, ends, endless = say(account, "ends", [NOW - timedelta(1), NOW + timedelta(1), None])
    assert (ended[:6], ends[:5], endless) == ("ended ", "ends ", "no end date on record")
    assert say(account, "failed-attempts", [1, 4]) == ["1 failed sign-in", "4 failed sign-ins"]
    assert say(account, "enabled", [True, False]) == ["is switched on", "is switched off"]
    assert say(key, "shared-with", [["a/b", "c/d"], []]) == ["also opens a/b, c/d", "opens no other account"]
