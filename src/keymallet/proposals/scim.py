"""Changes of a SCIM service as operations of bulk requests (RFC 7644, 3.7), one on a line.

Each is a PATCH of one user (3.5.2), with all that is changed of it, made wholly or not at all. Where the
service gives versions (3.14), it carries the one that was read: sent as `If-Match`, it is refused where the
user has changed meanwhile.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from typing import Any

from keymallet.core.facts import scim_extension
from keymallet.core.facts.declaration import TABLES
from keymallet.core.facts.model import Kind
from keymallet.core.facts.tables.columns import AS_FOUND, STANDS_AT
from keymallet.core.mending.forms import TELLING_APART, attributes, scim_path
from keymallet.proposals.change import Change

HOW = "send each line of {file} as a PATCH, with its version as If-Match"
ENDING = "jsonl"
_PATCH = "urn:ietf:params:scim:api:messages:2.0:PatchOp"
_ROLES = "roles"

Operation = dict[str, Any]


def write(changes: Sequence[Change], heading: Sequence[str]) -> tuple[str, str]:
    """The requests of these changes in their order, and those that undo them, the last first."""
    forward = _requests(changes, _asked, with_version=True)
    # What a change makes of the version, only the service knows.
    back = _requests(changes[::-1], _undone, with_version=False)
    return "".join(forward), "".join(back)


def _requests(
    changes: Sequence[Change], operation: Callable[[Change], Operation], *, with_version: bool
) -> list[str]:
    """One request for each user: a second one would find another version than was read."""
    of_users: dict[str, list[Change]] = {}
    for change in changes:
        of_users.setdefault(change.account[STANDS_AT.name], []).append(change)
    lines = []
    for path, mine in of_users.items():
        version = attributes(mine[0].account.get(AS_FOUND.name)).get("version") if with_version else None
        request = {
            "method": "PATCH",
            "path": path,
            "bulkId": ",".join(str(change.number) for change in mine),
            **({"version": version} if version else {}),
            "data": {"schemas": [_PATCH], "Operations": [operation(change) for change in mine]},
        }
        lines.append(json.dumps(request) + "\n")
    return lines


def _asked(change: Change) -> Operation:
    path = _path(change)
    match change.mend:
        case "switch-off":
            return {"op": "replace", "path": path, "value": False}
        case "change-password":
            return {"op": "replace", "path": path, "value": True}
        case "revoke-key":
            return {"op": "replace", "path": f"{path}.state", "value": "revoked"}
    return {"op": "remove", "path": path}


def _undone(change: Change) -> Operation:
    path = _path(change)
    match change.mend:
        case "switch-off":
            return {"op": "replace", "path": path, "value": True}
        case "change-password":
            return _as_it_was(path, change.facts["password-must-change"])
        case "revoke-key":
            return _as_it_was(f"{path}.state", change.facts["state"])
    member = json.loads(change.found[0]) if change.place == _ROLES else _member(change)
    return {"op": "add", "path": change.place, "value": [member]}


def _as_it_was(path: str, value: Any) -> Operation:
    return (
        {"op": "remove", "path": path} if value is None else {"op": "replace", "path": path, "value": value}
    )


def _path(change: Change) -> str:
    """The attribute that is changed, or the member of a list, by what tells it from the others."""
    if change.mend in ("switch-off", "change-password"):
        fact = "enabled" if change.mend == "switch-off" else "password-must-change"
        return scim_path(change.supply[fact])
    if change.place == _ROLES:
        told = {"value": json.loads(change.found[0])["value"]}
    else:
        names = TELLING_APART[change.table]
        told = {scim_extension.camel(name): change.facts[name] for name in names if change.facts.get(name)}
    return f"{change.place}[{' and '.join(f'{name} eq {json.dumps(value)}' for name, value in told.items())}]"


def _member(change: Change) -> dict[str, Any]:
    """A member of a list of our extension, as it was read."""
    member = {}
    for column in scim_extension.members_of(TABLES[change.table]):
        value = change.facts.get(column.name)
        if value is not None:
            text = f"{value:%Y-%m-%dT%H:%M:%S.%f}Z" if column.kind is Kind.INSTANT else value
            member[scim_extension.camel(column.name)] = text
    return member
