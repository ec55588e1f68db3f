"""A batch in LDIF: records that add entries (RFC 2849), understood as the directory would show them."""

from __future__ import annotations

import re
from datetime import datetime

import polars as pl

from keymallet.core.base.problems import fail
from keymallet.core.facts.declaration import ACCOUNT, PLANNED
from keymallet.core.facts.reading import Reading
from keymallet.core.facts.tables.columns import NAMES_FOR_CHANGES
from keymallet.core.vetting.batch import PASSWORD, Batch, unique_names
from keymallet.sources.batches.sections import section_as
from keymallet.sources.directory.entries import Entry, first_value
from keymallet.sources.directory.interpret import Directory
from keymallet.sources.directory.ldif import entries_of
from keymallet.sources.directory.state import is_readable
from keymallet.sources.sections import DirectorySection, SourceSection

_CLEAR = re.compile(rb"^\{CLEAR(TEXT)?\}", re.IGNORECASE)
_ELSEWHERE = ("kind", "groups")
"""Facts that stand in no attribute of the entry."""
_AS_STORED = ("password-scheme", "password-readable", "stable-id", "created", *NAMES_FOR_CHANGES)
"""Facts that the directory itself makes when it takes the entry."""


def read_batch(path: str, data: bytes, section: SourceSection | None, at: datetime) -> Batch:
    """The accounts that the records would add. Raises KeymalletError where no record can be read."""
    directory = section_as(section, DirectorySection, read="ldif")
    reading = Reading("batch")
    entries = list(entries_of(path, data, reading, adding=True))
    if not entries:
        refusals = reading.table_intake(ACCOUNT.name).refusals
        why = f": {refusals[0].reason}" if refusals else ""
        hint = "a record begins with dn:, says what it adds, and ends with a blank line"
        raise fail(
            f"no entry is added here{why}", file=path, line=refusals[0].line if refusals else 1, hint=hint
        )
    interpreted = Directory(directory, reading, at, entries)
    interpreted.interpret()
    named = interpreted.named
    batch = Batch(path, lines=[entry.line for entry in named.values()])
    logins = [entry.text(*(name.lower() for name in directory.name)) for entry in named.values()]
    batch.written = pl.Series(logins, dtype=pl.String)
    keys = unique_names(batch.written, batch.lines)
    _name_managers(reading)
    by_login = dict(zip(named, keys, strict=True))
    for name, frame in reading.tables.items():
        column = "name" if name == ACCOUNT.name else "account"
        if column in frame.columns and name in _BELONGING:
            batch.tables[name] = frame.with_columns(pl.col(column).replace(by_login)).drop(
                _AS_STORED, strict=False
            )
            told = reading.supply[name].items()
            batch.supply[name] = {fact: where for fact, where in told if fact not in _AS_STORED}
    passwords = [_clear(entry) for entry in named.values()]
    batch.tables[PLANNED.name] = pl.DataFrame(
        {"account": keys, PASSWORD: pl.Series(passwords, dtype=pl.String)}
    )
    batch.supply[PLANNED.name] = {"account": "the entry"}
    if any(entry.has("userpassword") for entry in named.values()):
        batch.supply[PLANNED.name][PASSWORD] = "userPassword"
    batch.told_by = {
        f"{table}.{fact}": where
        for table, facts in batch.supply.items()
        for fact, where in facts.items()
        if fact not in _ELSEWHERE
    }
    intake = reading.intake.get(ACCOUNT.name)
    if intake is not None:
        batch.refused, batch.unreadable = list(intake.refusals), list(intake.unreadable_cells)
    batch.remarks = list(reading.remarks)
    return batch


def _name_managers(reading: Reading) -> None:
    """Managers that are named by their DN, and are none of the batch's own, by the first value of that."""
    frame = reading.tables[ACCOUNT.name]
    if "manager" not in frame.columns:
        return
    told = [name and (first_value(name) if "=" in name else name) for name in frame["manager"]]
    reading.tables[ACCOUNT.name] = frame.with_columns(pl.Series("manager", told, dtype=pl.String))


_BELONGING = (ACCOUNT.name, "key", "grant")


def _clear(entry: Entry) -> str | None:
    """The first password where it stands in clear; of one that is hashed already nothing can be told."""
    values = entry.values.get("userpassword", [])
    if not values or not is_readable(values[:1]):
        return None
    return _CLEAR.sub(b"", values[0]).decode("utf-8", "replace")
