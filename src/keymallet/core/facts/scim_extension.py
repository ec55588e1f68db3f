"""Our extension of SCIM users: what the standard has no attribute for, named after the facts.

Every fact of an account stands under its own name in camel case; factors, keys, grants and elevations
are lists whose members hold the columns of those tables in the same way.
"""

from __future__ import annotations

from typing import Any

from keymallet.core.facts.declaration import ACCOUNT, ELEVATION, FACTOR, GATE, GRANT, KEY, SETTING
from keymallet.core.facts.model import Column, Kind, Table
from keymallet.core.facts.tables.columns import FOR_CHANGES, NAMES_FOR_CHANGES

URN = "urn:keymallet:scim:schemas:extension:accounts:1.0:User"
LISTS: dict[str, Table] = {
    "factors": FACTOR,
    "keys": KEY,
    "grants": GRANT,
    "elevations": ELEVATION,
}
"""The lists of the extension, and the tables their members are rows of."""

IN_FORCE: dict[str, Table] = {
    "urn:keymallet:scim:schemas:core:1.0:Gate": GATE,
    "urn:keymallet:scim:schemas:core:1.0:Setting": SETTING,
}
"""Resources of our own: what a service asks of those who sign in, and the policies it has in force."""

_IN_THE_CORE = ("account", "source", "name", "stable-id", "groups", *NAMES_FOR_CHANGES)
ACCOUNT_COLUMNS: tuple[Column, ...] = tuple(
    column for column in ACCOUNT.columns if column.name not in _IN_THE_CORE and not column.across
)
"""The facts of an account that the extension can hold."""

_JSON_TYPES: dict[Kind, dict[str, Any]] = {
    Kind.FLAG: {"type": "boolean"},
    Kind.COUNT: {"type": "integer"},
    Kind.TEXT: {"type": "string"},
    Kind.WORD: {"type": "string"},
    Kind.WORDS: {"type": "array", "items": {"type": "string"}},
    Kind.INSTANT: {"type": "string", "format": "date-time"},
    Kind.SPAN: {"type": "string"},
}


def members_of(table: Table) -> list[Column]:
    """What a member of a list holds: what follows from where it was found, no member says of itself."""
    return [column for column in table.columns[1:] if not column.across and column not in FOR_CHANGES]


def camel(name: str) -> str:
    """`last-sign-in` as JSON names it: `lastSignIn`."""
    head, *rest = name.split("-")
    return head + "".join(part.capitalize() for part in rest)


def json_schema() -> dict[str, Any]:
    """The extension as a JSON Schema (2020-12)."""
    properties = {camel(column.name): _property(column) for column in ACCOUNT_COLUMNS}
    for name, table in LISTS.items():
        members = {camel(column.name): _property(column) for column in members_of(table)}
        item = {"type": "object", "properties": members, "additionalProperties": False}
        properties[name] = {"type": "array", "description": table.meaning, "items": item}
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "$id": URN,
        "title": "Accounts: what SCIM has no attribute for",
        "description": "Every property may be left out: then it is not known. Instants are RFC 3339.",
        "type": "object",
        "properties": properties,
        "additionalProperties": False,
        "$defs": {urn.rpartition(":")[2]: _resource(urn, table) for urn, table in IN_FORCE.items()},
    }


def _resource(urn: str, table: Table) -> dict[str, Any]:
    """A resource of our own, as a JSON Schema."""
    members = {camel(column.name): _property(column) for column in table.columns if column.name != "source"}
    return {
        "$id": urn,
        "description": table.meaning,
        "type": "object",
        "properties": {"id": {"type": "string"}, **members},
        "required": ["id", camel(table.columns[0].name)],
    }


def _property(column: Column) -> dict[str, Any]:
    schema = {**_JSON_TYPES[column.kind], "description": column.meaning}
    if column.words and column.kind is Kind.WORD:
        schema["enum"] = list(column.words)
    return schema
