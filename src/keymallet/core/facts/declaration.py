"""The declaration of every fact table: column, type, meaning, words, and how each fact is spoken.

Readers fill these tables, rules read them, `keymallet dictionary` prints them. A column that is
*derived* carries its definition in the rule language itself, so that it is judged and explained
like any other expression.
"""

from __future__ import annotations

from keymallet.core.facts.model import Table
from keymallet.core.facts.tables.account import ACCOUNT
from keymallet.core.facts.tables.people import EXEMPTION, PERSON
from keymallet.core.facts.tables.planned import PLANNED
from keymallet.core.facts.tables.power import ELEVATION, GRANT
from keymallet.core.facts.tables.sign_in import FACTOR, KEY, SIGN_IN, WAY_IN
from keymallet.core.facts.tables.systems import GATE, SETTING

__all__ = [
    "ACCOUNT",
    "ELEVATION",
    "EXEMPTION",
    "FACTOR",
    "GATE",
    "GRANT",
    "KEY",
    "PERSON",
    "PLANNED",
    "SETTING",
    "SIGN_IN",
    "WAY_IN",
]

TABLES: dict[str, Table] = {
    table.name: table
    for table in (
        ACCOUNT,
        FACTOR,
        KEY,
        GRANT,
        ELEVATION,
        SIGN_IN,
        WAY_IN,
        GATE,
        SETTING,
        PERSON,
        EXEMPTION,
        PLANNED,
    )
}


TOLD_TABLES = {name: table for name, table in TABLES.items() if not table.across}
"""The tables whose rows sources give, registers, or batches of accounts that are about to be made."""


def words_of(table: Table, name: str) -> tuple[str, ...]:
    """The words of a column's closed set."""
    column = table.column(name)
    assert column is not None, f"{table.name} has no {name}"
    return column.words


def tables_of_account() -> tuple[Table, ...]:
    """The tables whose rows belong to an account."""
    return tuple(table for table in TABLES.values() if table.of_account)


def tables_with_verdicts() -> tuple[Table, ...]:
    """The tables that `each` of a rule may name: a rule gives one verdict for each of their rows.

    These are people, accounts, all that belongs to an account, entries of the register, and what a source
    has in force (its settings and gates).
    """
    return tuple(
        table
        for table in TABLES.values()
        if table.of_account or table in (PERSON, EXEMPTION) or "source" in table.names
    )


def owned_tables() -> tuple[Table, ...]:
    """The tables that a rule can ask `some …` about: accounts of a person, and what is an account's."""
    return tuple(table for table in TABLES.values() if table.owner)


def way_to_owner(table: Table, owner: str) -> tuple[Table, ...] | None:
    """The tables to go through from a row to the row of `owner` it belongs to; None: to none.

    From a key to its person: key, account. From an account to its account: nowhere.
    """
    way: list[Table] = []
    while table.name != owner:
        if not table.owner:
            return None
        way.append(table)
        table = TABLES[table.owner]
    return tuple(way)
