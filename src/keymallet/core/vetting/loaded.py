"""A batch after it was loaded: what arrived as asked, differs, is missing, or was not asked for."""

from __future__ import annotations

import unicodedata
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from datetime import datetime, time
from enum import IntEnum
from typing import Any
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.facts.declaration import ACCOUNT, GRANT, PLANNED
from keymallet.core.facts.evidence import ACCOUNT_ROW, UNREAD, Evidence
from keymallet.core.facts.model import Kind
from keymallet.core.facts.reading import NO_SUCH_THING
from keymallet.core.vetting.batch import PASSWORD, Batch, has_password

NOT_HELD = (
    "stable-id",
    "created",
    "last-sign-in",
    "password-changed",
    "password-expires",
    "initial-password",
)
"""Facts that a system sets by itself when it takes an account, or that are others once it is used."""
UNTIL_USED = ("password-must-change",)
"""Facts that are as asked only until somebody signs in."""
NAMED_PEOPLE = ("manager", "owner")
COLUMNS = ("line", "name", "result", "fact", "cells", "asked", "found")
"""What is told of each row, or of each fact in which it differs."""
HAS_PASSWORD = "has-password"
"""The fact that stands for a first password: whether it arrived, not which."""
ROLES = "role"
"""The fact that stands for the roles of an account, which are rows of their own."""


class Arrival(IntEnum):
    """What became of a row."""

    AS_ASKED = 1
    NOT_KNOWN = 2
    DIFFERS = 3
    MISSING = 4
    NOT_ASKED_FOR = 5

    @property
    def words(self) -> str:
        """As people read it."""
        return {1: "as asked", 2: "not known", 3: "differing", 4: "missing", 5: "not asked for"}[self]


@dataclass(frozen=True)
class Arrived:
    """What became of a batch: COLUMNS for each row, more than one where several facts differ.

    Accounts that nobody asked for have no line. `results` has the Arrival of each row of the batch.
    `not_held` are facts that the file gives and the target does not tell.
    """

    rows: pl.DataFrame
    results: list[Arrival]
    not_held: list[str]

    def number(self, arrival: Arrival) -> int:
        """How many rows, or accounts, have come to this."""
        if arrival is Arrival.NOT_ASKED_FOR:
            return int((self.rows["result"] == arrival.words).sum())
        return self.results.count(arrival)


def facts_held(batch: Batch) -> dict[str, set[str]]:
    """The facts, by table, of the target's accounts that the batch is held against."""
    accounts = {name for name in batch.supply[ACCOUNT.name] if name not in NOT_HELD}
    return {
        ACCOUNT.name: {"name", "person", "mail", "last-sign-in", HAS_PASSWORD, *accounts},
        GRANT.name: {"role", "privileged"},
    }


def held_against(
    batch: Batch, evidence: Evidence, names_before: Collection[str] | None, clock: ZoneInfo
) -> Arrived:
    """Hold each row against the account of its name in the target.

    `names_before` are the login names that the target had in the snapshot before; what is new since then and
    stands in no row was not asked for. None: there is no such snapshot.
    """
    source = batch.target.source
    accounts = evidence.tables[ACCOUNT.name].with_row_index("row of the target")
    accounts = accounts.filter(pl.col("source").cast(pl.String) == source)
    there = {_folded(name): row for row, name in enumerate(accounts["name"])}
    supplied = evidence.supply.get(source, {}).get(ACCOUNT.name, {})
    told = {name for name, where in supplied.items() if where != NO_SUCH_THING}
    given = [name for name in batch.supply[ACCOUNT.name] if name not in NOT_HELD]
    accounts_asked = batch.accounts.with_columns(batch.written.alias("name"))
    if HAS_PASSWORD not in given and PASSWORD in batch.supply.get(PLANNED.name, {}):
        given.append(HAS_PASSWORD)
        accounts_asked = accounts_asked.with_columns(has_password(batch).alias(HAS_PASSWORD))
    facts = [
        name for name in given if name in told and name in accounts.columns and name in accounts_asked.columns
    ]
    holding = _Holding(batch, evidence, accounts_asked, accounts, facts, clock)
    rows: list[dict[str, Any]] = []
    results = []
    for place, written in enumerate(batch.written):
        row = there.get(_folded(written))
        differing = None if row is None else list(holding.differences(place, row))
        if row is None:
            results.append(Arrival.MISSING)
        elif differing:
            results.append(
                Arrival.DIFFERS if any(each["found"] is not None for each in differing) else Arrival.NOT_KNOWN
            )
        else:
            results.append(Arrival.AS_ASKED)
        common = {"line": batch.lines[place], "name": written, "result": results[-1].words}
        rows += [common | each for each in differing or [{}]]
    asked = {_folded(written) for written in batch.written}
    if names_before is not None:
        before = {_folded(name) for name in names_before}
        rows += [
            {"name": name, "result": Arrival.NOT_ASKED_FOR.words}
            for name in accounts["name"]
            if _folded(name) not in asked | before
        ]
    schema = {name: pl.String() for name in COLUMNS} | {"line": pl.Int64(), "cells": pl.List(pl.String)}
    frame = pl.DataFrame([{name: row.get(name) for name in COLUMNS} for row in rows], schema=schema)
    return Arrived(frame, results, [name for name in given if name not in facts])


def _folded(name: str | None) -> str:
    """A text as names are compared before loading too: whatever its case, blanks around, way of accents."""
    return unicodedata.normalize("NFC", name or "").strip().lower()


class _Holding:
    """The batch and the target's accounts side by side."""

    def __init__(
        self,
        batch: Batch,
        evidence: Evidence,
        asked: pl.DataFrame,
        accounts: pl.DataFrame,
        facts: list[str],
        clock: ZoneInfo,
    ) -> None:
        self.clock = clock
        self.batch = batch
        self.asked = {fact: asked[fact].to_list() for fact in facts}
        self.held = {fact: accounts[fact].to_list() for fact in facts}
        self.found = accounts
        self.facts = facts
        nothing = [None] * accounts.height
        self.unread = accounts[UNREAD].to_list() if UNREAD in accounts.columns else nothing
        told = "last-sign-in" in accounts.columns
        self.used = accounts["last-sign-in"].is_not_null().to_list() if told else nothing
        self.keys = batch.accounts["name"].to_list()
        self.rows = accounts["row of the target"].to_list()
        self.called = self._called()
        self.roles = self._roles(evidence)

    def differences(self, place: int, row: int) -> Iterator[dict[str, Any]]:
        """The facts in which an account differs from its row; `found` is None where that is not known."""
        unread = self.unread[row] or ()
        for fact in self.facts:
            if fact in UNTIL_USED and self.used[row]:
                continue
            asked, found = self.asked[fact][place], self.held[fact][row]
            stands = f"{PLANNED.name}.{PASSWORD}" if fact == HAS_PASSWORD else f"{ACCOUNT.name}.{fact}"
            cells = [header] if (header := self.batch.told_by.get(stands)) else []
            if fact in unread:
                yield {"fact": fact, "cells": cells, "asked": self._shown(asked), "found": None}
            elif not self._same(fact, asked, found):
                yield {"fact": fact, "cells": cells, "asked": self._shown(asked), "found": self._shown(found)}
        if self.roles is not None:
            name, account = self.keys[place], self.rows[row]
            asked_roles, found_roles = self.roles[0].get(name, set()), self.roles[1].get(account, {})
            powerful = {role for role, is_power in found_roles.items() if is_power}
            # A role that was not asked for is told where it is one of power.
            if asked_roles - found_roles.keys() or powerful - asked_roles:
                header = self.batch.told_by.get(f"{GRANT.name}.role")
                told = {"asked": self._shown(sorted(asked_roles)), "found": self._shown(sorted(found_roles))}
                yield {"fact": ROLES, "cells": [header] if header else [], **told}

    def _same(self, fact: str, asked: Any, found: Any) -> bool:
        column = ACCOUNT.column(fact)
        assert column is not None
        if column.kind is Kind.WORDS:
            # What an account is put in besides, by its unit or by nesting, takes nothing from what was asked.
            return set(asked or ()) <= set(found or ())
        if column.kind is Kind.TEXT:
            if _folded(asked) == _folded(found):
                return fact != "name" or asked == found
            return fact in NAMED_PEOPLE and self.called.get(_folded(asked)) == _folded(found)
        return bool(asked == found)

    def _called(self) -> dict[str, str]:
        """The number of the person that each login, mail address and name in the target is one of."""
        known: dict[str, str] = {}
        for by in ("name", "mail", "account"):
            for called, person in self.found.select(by, "person").drop_nulls().iter_rows():
                known.setdefault(_folded(called), _folded(person))
        return known

    def _roles(self, evidence: Evidence) -> tuple[dict[str, set[str]], dict[int, dict[str, bool]]] | None:
        """The roles each row asks for; those each account has, and whether they are of power.

        None where the target tells no roles.
        """
        found = evidence.tables.get(GRANT.name)
        if found is None or self.batch.target.source not in evidence.suppliers(GRANT.name):
            return None
        wanted: dict[str, set[str]] = {}
        asked = self.batch.tables.get(GRANT.name)
        for name, role in (
            asked.select("account", "role").drop_nulls().iter_rows() if asked is not None else ()
        ):
            wanted.setdefault(name, set()).add(role)
        held: dict[int, dict[str, bool]] = {}
        mine = self.found.select(pl.col("row of the target").alias(ACCOUNT_ROW))
        rows = found.select(ACCOUNT_ROW, "role", "privileged").join(mine, on=ACCOUNT_ROW, how="semi")
        for row, role, privileged in rows.iter_rows():
            if role is not None:
                held.setdefault(row, {})[role] = bool(privileged) or held.get(row, {}).get(role, False)
        return wanted, held

    def _shown(self, value: Any) -> str:
        """A value as it is told: a list with commas, a day without its midnight, what is none as `none`."""
        if value is None:
            return "none"
        if isinstance(value, bool):
            return "yes" if value else "no"
        if isinstance(value, list):
            return ", ".join(map(str, value)) or "none"
        if isinstance(value, datetime):
            local = value.astimezone(self.clock)
            return f"{local:%Y-%m-%d}" if local.time() == time() else f"{local:%Y-%m-%d %H:%M}"
        return str(value)
