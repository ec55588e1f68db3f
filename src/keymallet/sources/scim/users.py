"""SCIM users and groups to fact tables.

Core and enterprise attributes are understood as RFC 7643 means them. For what it has no attribute for,
there is an extension of ours: every fact of an account under its own name in camel case, and lists of
factors, keys, grants and elevations whose members hold the columns of those tables in the same way.
Another extension's attributes are read by their path, as the estate maps them.
"""

from __future__ import annotations

import base64
import binascii
import json
from collections import defaultdict
from fnmatch import fnmatchcase
from typing import Any
from urllib.parse import quote

import polars as pl

from keymallet.core.facts import scim_extension
from keymallet.core.facts.declaration import ACCOUNT, TABLES
from keymallet.core.facts.evidence import UNREAD, data_type
from keymallet.core.facts.model import Table
from keymallet.core.facts.reading import Reading, Refusal
from keymallet.sources.scim.schemas import Schemas
from keymallet.sources.scim.service import Resource
from keymallet.sources.scim.spelling import ENTERPRISE
from keymallet.sources.scim.values import (
    UnreadableError,
    at_path,
    converted,
    primary,
    referred_to,
    values_of,
)
from keymallet.sources.sections import ScimSection
from keymallet.sources.shared.certificates import KEY_FACTS, UnreadableKeyError, certificate_row
from keymallet.sources.shared.no_notion import rights_have_no_end

ATTRIBUTES = (
    *("id", "userName", "displayName", "name", "emails", "active", "userType", "title", "meta"),
    *("entitlements", "roles", "groups", "x509Certificates", ENTERPRISE, scim_extension.URN),
)
_ROWS_HELD = 20_000
_MANAGER = "manager-id"


class ScimGroups:
    """Who is in which group, directly and through other groups."""

    def __init__(self, groups: list[Resource]) -> None:
        self._names = {str(group.get("id", "")): str(group.get("displayName") or "") for group in groups}
        self._above: dict[str, list[str]] = defaultdict(list)
        self.unread: list[str] = []
        """Groups with a member of whom nothing tells who it is, by name."""
        for group in groups:
            ident, members = str(group.get("id", "")), group.get("members") or ()
            for member in members if isinstance(members, list) else [members]:
                if who := referred_to(member):
                    self._above[who].append(ident)
                else:
                    self.unread.append(self._names[ident] or ident)

    def of(self, ident: str, told: Any = None) -> list[str]:
        """The names of all groups of a user's id, the direct ones first; circles end.

        `told` is what the user itself says of its groups (RFC 7643, 4.1.2).
        """
        reached: dict[str, None] = {}
        waiting = list(self._above.get(ident, ()))
        names = {}
        for member in told if isinstance(told, list) else []:
            group = referred_to(member)
            name = member.get("display") if isinstance(member, dict) else member
            if isinstance(name, str) and not self._names.get(group):
                names[group or name] = name
            waiting.append(group or str(name))
        while waiting:
            group = waiting.pop(0)
            if group not in reached:
                reached[group] = None
                waiting += self._above.get(group, ())
        return list(dict.fromkeys(names.get(group) or self._names.get(group) or group for group in reached))


class Tenant:
    """Takes users page by page, and enters them into a reading at the end.

    Of a page only the rows are kept, as columns, so that a million users do not stand in memory as objects.
    """

    def __init__(
        self,
        section: ScimSection,
        reading: Reading,
        groups: list[Resource] | None,
        schemas: Schemas | None = None,
    ) -> None:
        self.section = section
        self.schemas = schemas or Schemas([])
        self.reading = reading
        self.supply: dict[str, str] = {"name": "userName", "kind": "userType and the estate's kinds"}
        self.supply |= {"stands-at": "id", "as-found": "meta.version"}
        if groups is not None:
            self.supply["groups"] = "/ScimGroups, their members"
        self.groups = ScimGroups(groups or [])
        for name in self.groups.unread:
            self._refuse("account", f"group {name[:60]}: a member without value and $ref")
        self.told: dict[str, dict[str, str]] = {}
        self.logins: set[str] = set()
        self.extensions: set[str] = set()
        self._pending: dict[str, list[dict[str, Any]]] = defaultdict(list)
        self._frames: dict[str, list[pl.DataFrame]] = defaultdict(list)

    @property
    def has_users(self) -> bool:
        """Whether any user came, readable or not."""
        return bool(self.logins or self.reading.table_intake("account").refused)

    def add(self, users: list[Resource]) -> None:
        """Take a page of users."""
        for user in users:
            login = user.get("userName")
            if not isinstance(login, str) or not login:
                self._refuse("account", f"user {str(user.get('id'))[:60]}: it has no userName")
            elif login in self.logins:
                self._refuse("account", f"user {str(user.get('id'))[:60]}: a second user of this userName")
            else:
                self.logins.add(login)
                self._pending[ACCOUNT.name].append(self._row(login, user))
        self.extensions |= {key for user in users for key in user if key.lower().startswith("urn:")}
        for name in [name for name, rows in self._pending.items() if len(rows) >= _ROWS_HELD]:
            self._to_columns(name)

    def enter(self) -> None:
        """Enter everything that came."""
        for name, supplied in {ACCOUNT.name: self.supply, **self.told}.items():
            self._to_columns(name)
            whole = pl.concat(self._frames[name])
            if name == ACCOUNT.name:
                whole = _with_managers(whole)
            unread = [UNREAD] if whole[UNREAD].null_count() < whole.height else []
            self.reading.tables[name] = whole.select(
                *(column for column in TABLES[name].names if column in supplied), *unread
            )
            self.reading.supply[name] = supplied
            self.reading.table_intake(name).read += whole.height
        rights_have_no_end(self.reading)
        self._remark_extensions()

    def _to_columns(self, name: str) -> None:
        """Turn the rows held so far into columns, which take a fraction of their room."""
        schema: dict[str, Any] = {column.name: data_type(column) for column in TABLES[name].columns}
        schema |= {UNREAD: pl.List(pl.String), _MANAGER: pl.String}
        self._frames[name].append(pl.DataFrame(self._pending.pop(name, []), schema=schema))

    # accounts

    def _row(self, login: str, user: Resource) -> dict[str, Any]:
        row: dict[str, Any] = {"name": login, UNREAD: []}
        company = self._object(row, user, ENTERPRISE, ("person", "unit", "manager"))
        name, meta = user.get("name"), user.get("meta")
        manager = company.get("manager")
        person = name.get("formatted") if isinstance(name, dict) else name or None
        self._take(row, "stable-id", user.get("id"), "id")
        version = meta.get("version") if isinstance(meta, dict) else None
        row |= {
            "stands-at": _place(user.get("id")),
            "as-found": [f"version: {version}"] if isinstance(version, str) else [],
        }
        self._take(row, "display", user.get("displayName") or person, "displayName")
        if user.get("emails"):
            self._take(row, "mail", primary(user["emails"]), "emails")
        self._take(row, "enabled", user.get("active"), "active")
        self._take(row, "title", user.get("title"), "title")
        self._take(row, "created", meta.get("created") if isinstance(meta, dict) else None, "meta.created")
        self._take(row, "person", company.get("employeeNumber"), "employeeNumber")
        self._take(row, "unit", company.get("department") or company.get("division"), "department")
        if manager:
            ident = referred_to(manager)
            shown = manager.get("displayName") if isinstance(manager, dict) else None
            self._take(row, "manager", shown or ident or manager, "manager")
            row[_MANAGER] = ident or None
        if user.get("entitlements") is not None:
            entitlements, odd = values_of(user["entitlements"])
            self._take(row, "entitlements", entitlements, "entitlements")
            if odd:
                self._unread(row, "entitlements", f"{odd:,} entitlements without a value")
        row["kind"] = self._kind(login, user.get("userType"))
        if user.get("groups"):
            self.supply.setdefault("groups", "the users' own groups")
        row["groups"] = self.groups.of(str(user.get("id", "")), user.get("groups"))
        told = self._object(row, user, scim_extension.URN, ())
        self._of_extension(login, row, told)
        for fact, path in self.section.facts.items():
            value = at_path(user, path)
            self._take(row, fact, value, path)
            if value is not None:
                # What the estate maps counts before what the core has under the same meaning.
                self.supply[fact] = path
        self._roles(login, user)
        self._certificates(login, user)
        if not row[UNREAD]:
            del row[UNREAD]
        return row

    def _take(self, row: dict[str, Any], fact: str, value: Any, where: str) -> None:
        """Enter a fact, if there is a value and it is of the fact's kind."""
        if value is None:
            return
        column = ACCOUNT.column(fact)
        assert column is not None
        self.supply.setdefault(fact, where)
        try:
            row[fact] = converted(column, value)
        except UnreadableError as error:
            self._unread(row, fact, str(error))

    def _unread(self, row: dict[str, Any], fact: str, why: str) -> None:
        """Count a fact that is there and cannot be read: it is unknown."""
        row[fact] = None
        row[UNREAD].append(fact)
        refusal = Refusal(self.section.url, 0, f"{row['name'][:60]}: {why}", fact)
        self.reading.table_intake("account").cannot_read(1, [refusal])

    def _object(
        self, row: dict[str, Any], user: Resource, name: str, facts: tuple[str, ...]
    ) -> dict[str, Any]:
        """An attribute that has to hold others; what it would have told is unknown where it does not."""
        value = user.get(name)
        if value is None or isinstance(value, dict):
            return value or {}
        for fact in facts:
            self.supply.setdefault(fact, name)
            self._unread(row, fact, f"{name} is no object")
        if not facts:
            self._refuse("account", f"{row['name'][:60]}: {name} is no object")
        return {}

    def _kind(self, login: str, user_type: Any) -> str | None:
        if isinstance(user_type, str) and user_type in self.section.user_types:
            return self.section.user_types[user_type]
        kinds = self.section.kinds.items()
        return next((kind for pattern, kind in kinds if fnmatchcase(login, pattern)), None)

    def _of_extension(self, login: str, row: dict[str, Any], attributes: dict[str, Any]) -> None:
        for column in scim_extension.ACCOUNT_COLUMNS:
            name = scim_extension.camel(column.name)
            self._take(row, column.name, attributes.get(name), f"{scim_extension.URN}, {name}")
        for name, table in scim_extension.LISTS.items():
            if name in attributes:
                self._list(login, table, attributes[name], f"{scim_extension.URN}, {name}")

    # what belongs to them

    def _roles(self, login: str, user: Resource) -> None:
        if user.get("roles") is None:
            return
        names = ("account", "role", "privileged", "mode", "via", "stands-at", "as-found")
        self.told.setdefault("grant", {}).update(dict.fromkeys(names, "roles"))
        roles, odd = values_of(user["roles"])
        for _ in range(odd):
            self._refuse("grant", f"{login[:60]}: a role without value and display")
        members = [each for each in user["roles"] if isinstance(each, dict)]
        found = {each["value"]: [json.dumps(each)] for each in members if isinstance(each.get("value"), str)}
        for role in roles:
            privileged = any(fnmatchcase(role, pattern) for pattern in self.section.privileged_roles)
            self._pending["grant"].append(
                {
                    "account": login,
                    "role": role,
                    "privileged": privileged if self.section.privileged_roles else None,
                    "mode": "standing",
                    "via": "direct",
                    "stands-at": "roles",
                    "as-found": found.get(role) if roles.count(role) == 1 else None,
                }
            )

    def _certificates(self, login: str, user: Resource) -> None:
        if user.get("x509Certificates") is None:
            return
        self.told.setdefault("key", {}).update(dict.fromkeys(KEY_FACTS, "x509Certificates"))
        texts, odd = values_of(user["x509Certificates"])
        for _ in range(odd):
            self._refuse("key", f"{login[:60]}: a certificate without a value")
        for text in texts:
            try:
                self._pending["key"].append(certificate_row(login, base64.b64decode(text)))
            except (UnreadableKeyError, binascii.Error, ValueError) as error:
                self._refuse("key", f"{login[:60]}: {error}")

    def _list(self, login: str, table: Table, members: Any, where: str) -> None:
        supplied = self.told.setdefault(table.name, {"account": where, "stands-at": where})
        place = f"{scim_extension.URN}:{where.rpartition(' ')[2]}"
        for member in members if isinstance(members, list) else [members]:
            row: dict[str, Any] = {"account": login, "stands-at": place}
            if not isinstance(member, dict):
                self._refuse(table.name, f"{login[:60]}: a member that is no object")
                continue
            for column in scim_extension.members_of(table):
                value = member.get(scim_extension.camel(column.name))
                if value is None:
                    continue
                supplied.setdefault(column.name, where)
                try:
                    row[column.name] = converted(column, value)
                except UnreadableError as error:
                    row.setdefault(UNREAD, []).append(column.name)
                    unread = Refusal(self.section.url, 0, f"{login[:60]}: {error}", column.name)
                    self.reading.table_intake(table.name).cannot_read(1, [unread])
            self._pending[table.name].append(row)

    def _refuse(self, table: str, reason: str) -> None:
        self.reading.table_intake(table).refuse(Refusal(self.section.url, 0, reason))

    def _remark_extensions(self) -> None:
        """Name the extensions that users carry and nobody reads."""
        mapped = " ".join(self.section.facts.values()).lower()
        unread = sorted(
            key for key in self.extensions - {ENTERPRISE, scim_extension.URN} if key.lower() not in mapped
        )
        if unread:
            hint = 'facts = { last-sign-in = "urn:…:attribute" } in the estate reads one'
            shown = ", ".join(map(self.schemas.named, unread[:5]))
            self.reading.remarks.append(f"extensions that are not read: {shown}; {hint}")


def _place(ident: Any) -> str | None:
    """The path of a user; its id is one part of it, whatever stands in it (RFC 3986, 3.3)."""
    return f"/Users/{quote(ident, safe='')}" if isinstance(ident, str) and ident.strip(".") else None


def _with_managers(accounts: pl.DataFrame) -> pl.DataFrame:
    """Name managers by their login where their id is a user's of the same service."""
    known = accounts.select(pl.col("stable-id").alias(_MANAGER), boss="name").drop_nulls().unique(_MANAGER)
    joined = accounts.join(known, on=_MANAGER, how="left", maintain_order="left")
    return joined.with_columns(pl.coalesce("boss", "manager").alias("manager"))
