"""What the stand-in service makes of a PATCH of a user (RFC 7644, 3.5.2)."""

from __future__ import annotations

import json
import re
from typing import Any

Resource = dict[str, Any]
_PATH = re.compile(r"(?:(urn:.+:User):)?([A-Za-z]\w*)")
_TEST = re.compile(r"([A-Za-z]\w*) eq ")
_DECODER = json.JSONDecoder()


class NotUnderstoodError(ValueError):
    """The request cannot be carried out; the message says why."""


def first_version() -> str:
    """The version of a user that nobody has changed yet (RFC 7644, 3.14)."""
    return 'W/"1"'


def patched(user: Resource, request: Resource, version: str | None) -> int:
    """Carry a request out on a user, wholly or not at all; give the status of the answer.

    A version that is not the user's is refused (412), and so is what cannot be understood (400).
    """
    meta = user.setdefault("meta", {})
    now = meta.setdefault("version", first_version())
    if version not in (None, "*", now):
        return 412
    changed: Resource = json.loads(json.dumps(user))
    try:
        for operation in request["Operations"]:
            _carry_out(changed, operation)
    except (NotUnderstoodError, KeyError, TypeError, AttributeError):
        return 400
    number = int(re.sub(r"\D", "", now) or 0) + 1
    changed["meta"]["version"] = f'W/"{number}"'
    user.clear()
    user.update(changed)
    return 200


def _carry_out(user: Resource, operation: Resource) -> None:
    kind, value = operation["op"].lower(), operation.get("value")
    holder, name, tests, part = _found(user, operation["path"])
    if tests is None:
        if kind == "remove":
            holder.pop(name, None)
        elif kind == "add" and isinstance(holder.get(name), list):
            holder[name] += [each for each in value or () if each not in holder[name]]
        elif kind in ("add", "replace"):
            holder[name] = value
        else:
            raise NotUnderstoodError(f"no operation: {kind}")
        return
    meant = [each for each in holder.get(name, []) if tests.items() <= each.items()]
    if not meant:
        raise NotUnderstoodError("noTarget: no member is meant")
    if kind == "remove" and not part:
        holder[name] = [each for each in holder[name] if each not in meant]
        return
    for member in meant:
        if kind == "remove":
            member.pop(part, None)
        else:
            member[part] = value


def _found(user: Resource, path: str) -> tuple[Resource, str, Resource | None, str]:
    """What holds the attribute of a path, its name, what a member has to be, and the part that is meant."""
    match = _PATH.match(path)
    if match is None:
        raise NotUnderstoodError(f"no path: {path}")
    schema, name = match.groups()
    holder = user.setdefault(schema, {}) if schema else user
    rest = path[match.end() :]
    if not rest.startswith("["):
        if rest:
            raise NotUnderstoodError(f"no path: {path}")
        return holder, name, None, ""
    tests, place = {}, 1
    while True:
        test = _TEST.match(rest, place)
        if test is None:
            raise NotUnderstoodError(f"no filter: {path}")
        tests[test[1]], place = _DECODER.raw_decode(rest, test.end())
        if not rest.startswith(" and ", place):
            break
        place += len(" and ")
    if rest[place : place + 1] != "]":
        raise NotUnderstoodError(f"no filter: {path}")
    return holder, name, tests, rest[place + 1 :].removeprefix(".")
