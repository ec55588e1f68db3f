"""What the stand-in service makes of a bulk request (RFC 7644, 3.7): users, and members of groups."""

from __future__ import annotations

import uuid
from typing import Any

from keymallet.core.facts import scim_extension
from keymallet.demo.patched import first_version, patched

Resource = dict[str, Any]
RESPONSE = "urn:ietf:params:scim:api:messages:2.0:BulkResponse"


def done(request: Resource, users: list[Resource], groups: list[Resource]) -> Resource:
    """Carry the operations out on these lists, one after the other, and tell how each came out.

    A user without userName, or with one that is taken, is refused; a password is taken and never kept. A name
    is kept in small letters, as many services do.
    """
    made: dict[str, str] = {}
    told = []
    for operation in request.get("Operations", []):
        status, place = _one(operation, users, groups, made)
        told.append(
            {"method": operation.get("method"), "bulkId": operation.get("bulkId", ""), "status": str(status)}
        )
        if place:
            told[-1]["location"] = place
    return {"schemas": [RESPONSE], "Operations": told}


def _one(
    operation: Resource, users: list[Resource], groups: list[Resource], made: dict[str, str]
) -> tuple[int, str]:
    method, path, data = operation.get("method"), operation.get("path", ""), operation.get("data", {})
    if (method, path) == ("POST", "/Users"):
        name = str(data.get("userName") or "").lower()
        if not name:
            return 400, ""
        if any(user["userName"].lower() == name for user in users):
            return 409, ""
        ident = str(uuid.uuid5(uuid.NAMESPACE_URL, name))
        kept = {key: value for key, value in data.items() if key != "password"}
        kept[scim_extension.URN] = {**kept.get(scim_extension.URN, {}), "hasPassword": "password" in data}
        users.append(
            {
                **kept,
                "id": ident,
                "userName": name,
                "meta": {"resourceType": "User", "version": first_version()},
            }
        )
        made[str(operation.get("bulkId", ""))] = ident
        return 201, f"/Users/{ident}"
    if method == "PATCH" and path.startswith("/Users/"):
        user = next((user for user in users if user["id"] == path.removeprefix("/Users/")), None)
        return (404, "") if user is None else (patched(user, data, operation.get("version")), path)
    if method == "PATCH" and path.startswith("/Groups/"):
        group = next((group for group in groups if group["id"] == path.removeprefix("/Groups/")), None)
        if group is None:
            return 404, ""
        for change in data.get("Operations", []):
            for member in change.get("value", []):
                named = str(member.get("value", ""))
                ident = made.get(named.removeprefix("bulkId:"), named)
                group.setdefault("members", []).append({"value": ident})
        return 200, path
    return 501, ""
