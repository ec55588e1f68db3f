"""Values as SCIM writes them (RFC 7643), to facts."""

from __future__ import annotations

import re
from datetime import UTC, datetime
from typing import Any
from urllib.parse import unquote

from keymallet.core.facts.model import Column, Kind
from keymallet.core.language.literals import parse_span
from keymallet.sources.scim.service import Resource
from keymallet.sources.scim.spelling import spelt

_DATE = re.compile(r"(\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d)(?:\.(\d{1,6})\d*)?(Z|[+-]\d\d:\d\d)", re.IGNORECASE)


class UnreadableError(ValueError):
    """A value that is not what its attribute holds."""


def converted(column: Column, value: Any) -> Any:
    """A JSON value as a fact. Raises UnreadableError if it is of another kind."""
    match column.kind:
        case Kind.FLAG if isinstance(value, bool):
            return value
        case Kind.FLAG if isinstance(value, str) and value.lower() in ("true", "false"):
            return value.lower() == "true"
        case Kind.COUNT if isinstance(value, int) and not isinstance(value, bool) and abs(value) < 2**63:
            return value
        case Kind.TEXT if isinstance(value, str | int) and not isinstance(value, bool):
            return str(value) or None
        case Kind.WORD if value in column.words:
            return value
        case Kind.WORDS if isinstance(value, list) and all(_is_word(column, item) for item in value):
            return value
        case Kind.SPAN if isinstance(value, str) and (span := parse_span(value)) is not None:
            return span
        case Kind.INSTANT if isinstance(value, str):
            return _instant(value)
    raise UnreadableError(f"{str(value)[:40]!r} is no {column.kind.value}")


def _is_word(column: Column, value: Any) -> bool:
    return isinstance(value, str) and (not column.words or value in column.words)


def _instant(text: str) -> datetime:
    """RFC 3339, at least to the second."""
    match = _DATE.fullmatch(text.strip())
    try:
        if match is not None:
            plain = f"{match[1]}.{(match[2] or '0').ljust(6, '0')}{match[3].upper().replace('Z', '+00:00')}"
            instant = datetime.fromisoformat(plain).astimezone(UTC)
            if instant.year >= 1970:
                return instant
    except (ValueError, OverflowError):
        pass
    raise UnreadableError(f"{text[:40]!r} is no date and time with a zone")


def primary(values: Any) -> Any:
    """The value that is marked as primary, else the first; None where there is none at all.

    A member that is no object is its value.
    """
    members = values if isinstance(values, list) else [values]
    chosen = next(
        (member for member in members if isinstance(member, dict) and member.get("primary") is True),
        members[0] if members else None,
    )
    return chosen.get("value") if isinstance(chosen, dict) else chosen


def values_of(members: Any) -> tuple[list[str], int]:
    """The values of a multi-valued attribute, and how many of its members have none that can be read.

    A plain text is a value as well; one that has only a name to show goes by that.
    """
    values = []
    listed = members if isinstance(members, list) else [members]
    for member in listed:
        value = (member.get("value") or member.get("display")) if isinstance(member, dict) else member
        if isinstance(value, str) and value:
            values.append(value)
    return values, len(listed) - len(values)


def referred_to(member: Any) -> str:
    """The id of what a member of a group, or a manager, refers to: `value`, the end of `$ref`, or a text."""
    if isinstance(member, str):
        return member
    if not isinstance(member, dict):
        return ""
    ident, address = member.get("value"), member.get("$ref")
    if isinstance(ident, str | int) and not isinstance(ident, bool) and ident != "":
        return str(ident)
    return unquote(address.rstrip("/").rpartition("/")[2]) if isinstance(address, str) else ""


def at_path(user: Resource, path: str) -> Any:
    """The value at `urn:…:User:attribute.part`, or at `attribute.part` of the core, whatever their case."""
    wanted = path.lower()
    schemas = [key for key in user if key.lower().startswith("urn:") and wanted.startswith(key.lower() + ":")]
    value: Any = user
    if schemas:
        longest = max(schemas, key=len)
        value, path = user[longest], path[len(longest) + 1 :]
    elif wanted.startswith("urn:"):
        return None
    for part in path.split("."):
        value = _member(value, part) if isinstance(value, dict) else None
    return value


def _member(value: Resource, name: str) -> Any:
    if (found := value.get(spelt(name))) is not None:
        return found
    return next((member for key, member in value.items() if key.lower() == name.lower()), None)
