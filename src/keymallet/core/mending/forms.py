"""In which form a change can be written: what the system's own tools take, or a line for somebody's hands."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

import polars as pl

from keymallet.core.facts import scim_extension
from keymallet.core.facts.declaration import ACCOUNT, FACTOR, GRANT, KEY, TABLES
from keymallet.core.facts.evidence import ACCOUNT_ROW, Evidence
from keymallet.core.facts.tables.columns import AS_FOUND, STANDS_AT
from keymallet.core.mending.changes import BY_HAND, FORM, LDIF, ROW, SCIM, SHELL, TABLE

SWITCHES = ("pwdAccountLockedTime", "nsAccountLock", "userAccountControl")
"""The attributes of a directory by which an account is switched off."""
DEMANDS = ("pwdReset", "passwordExpirationTime", "pwdLastSet")
"""The attributes of a directory by which a new password is demanded."""

_NOBODY_TO_ASK = ("service", "system", "emergency")

TELLING_APART: dict[str, tuple[str, ...]] = {
    KEY.name: ("key",),
    GRANT.name: ("role", "scope", "via"),
    FACTOR.name: ("kind", "label", "device", "state"),
}
"""By which columns a member of a list of our SCIM extension is told from the others of an account."""

Facts = Mapping[str, Any]
Supply = Mapping[str, Mapping[str, str]]


def with_forms(changes: pl.DataFrame, evidence: Evidence, readers: Mapping[str, str]) -> pl.DataFrame:
    """The changes (`mend`, TABLE, ROW) with the FORM of each; BY_HAND where no other is known.

    `readers` says by source how it is read: only what was read in a system's own form can be changed in it.
    """
    doubled: dict[str, pl.Series] = {}
    forms = []
    for mend, table, row in changes.select("mend", TABLE, ROW).iter_rows():
        form = BY_HAND if row is None else _form(mend, table, row, evidence, readers)
        if form == SCIM and table in TELLING_APART:
            if table not in doubled:
                doubled[table] = _doubled(table, evidence)
            form = BY_HAND if doubled[table][row] else form
        forms.append(form)
    return changes.with_columns(pl.Series(FORM, forms, dtype=pl.String))


def attributes(found: list[str] | None) -> dict[str, str | None]:
    """The attributes of `as-found` with their values; None where one is not set."""
    pairs = (line.partition(": ") for line in found or ())
    return {name: value if sign else None for name, sign, value in pairs}


def can_be_asked(account: Facts) -> bool:
    """Whether somebody is there who can set a new password at the next sign-in.

    A program cannot: demanded of a service, it shuts the service out; so it does where no password is used,
    but a key. Of an emergency account, it would be demanded when there is no time for it.
    """
    if account.get("has-password") is False or account.get("password-locked") is True:
        return False
    return account.get("kind") not in _NOBODY_TO_ASK and account.get("interactive") is not False


def the_one_of(names: tuple[str, ...], found: list[str] | None) -> str | None:
    """The attribute among these that stands there; None if none or several do."""
    there = [name for name in names if name in attributes(found)]
    return there[0] if len(there) == 1 else None


def scim_path(where: str) -> str:
    """The path of an attribute in a SCIM request, from what is said of where a fact stands."""
    schema, sign, name = where.partition(", ")
    return f"{schema}:{name}" if sign else where


def _form(mend: str, table: str, row: int, evidence: Evidence, readers: Mapping[str, str]) -> str:
    facts = evidence.tables[table].row(row, named=True)
    accounts = evidence.tables[ACCOUNT.name]
    account = facts if table == ACCOUNT.name else accounts.row(facts[ACCOUNT_ROW], named=True)
    source = str(account["source"])
    form = _OF_READER.get(readers.get(source, ""))
    if form is None or (mend == "change-password" and not can_be_asked(account)):
        return BY_HAND
    return form if _CAN[form](mend, facts, account, evidence.supply.get(source, {})) else BY_HAND


def _in_a_directory(mend: str, facts: Facts, account: Facts, supply: Supply) -> bool:
    place, found = facts.get(STANDS_AT.name), facts.get(AS_FOUND.name)
    if not place or not found or any("\ufffd" in text for text in (place, *found)):
        return False
    if mend == "switch-off":
        return the_one_of(SWITCHES, found) is not None
    if mend == "change-password":
        return the_one_of(DEMANDS, found) is not None
    return mend in ("remove-grant", "revoke-key")


def _on_a_host(mend: str, facts: Facts, account: Facts, supply: Supply) -> bool:
    place, found = facts.get(STANDS_AT.name), attributes(account.get(AS_FOUND.name))
    # Names of other signs are read as they come, and would not be written back as they were.
    if not all(text.isascii() and text.isprintable() for text in (account["name"], place or "")):
        return False
    if mend in ("switch-off", "change-password"):
        return ("expires" if mend == "switch-off" else "last change") in found
    if mend == "revoke-key":
        return facts["kind"] == "ssh-key" and bool(place) and str(facts["key"]).startswith("SHA256:")
    return mend == "remove-grant" and bool(place)


def _in_a_service(mend: str, facts: Facts, account: Facts, supply: Supply) -> bool:
    place = facts.get(STANDS_AT.name)
    told = supply.get(ACCOUNT.name, {})
    if not account.get(STANDS_AT.name):
        return False
    if mend == "switch-off":
        return "enabled" in told
    if mend == "change-password":
        return "password-must-change" in told
    in_extension = str(place).startswith(scim_extension.URN)
    if mend == "remove-grant":
        return in_extension or bool(place and facts.get(AS_FOUND.name))
    if mend == "revoke-key":
        return in_extension and bool(facts["key"])
    return mend == "remove-factor" and in_extension


def _doubled(table: str, evidence: Evidence) -> pl.Series:
    """For each row whether another member of the same list cannot be told from it."""
    frame = evidence.tables[table]
    keys = [name for name in (ACCOUNT_ROW, STANDS_AT.name, *TELLING_APART[table]) if name in frame.columns]
    return frame.select(keys).is_duplicated()


_OF_READER = {"ldap": LDIF, "ldif": LDIF, "scim": SCIM, "host": SHELL}
_CAN: dict[str, Callable[[str, Facts, Facts, Supply], bool]] = {
    LDIF: _in_a_directory,
    SCIM: _in_a_service,
    SHELL: _on_a_host,
}
assert all(name in TABLES for name in TELLING_APART)
