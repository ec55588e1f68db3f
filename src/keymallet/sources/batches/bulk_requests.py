"""A batch as a SCIM bulk request (RFC 7644, 3.7): the users it creates, the groups it puts them in."""

from __future__ import annotations

import json
from collections.abc import Iterator
from datetime import datetime
from typing import Any

import polars as pl

from keymallet.core.base.problems import fail
from keymallet.core.facts.declaration import ACCOUNT, FACTOR, GRANT, KEY, PLANNED
from keymallet.core.facts.reading import Reading, Refusal
from keymallet.core.facts.tables.columns import NAMES_FOR_CHANGES
from keymallet.core.vetting.batch import PASSWORD, Batch, unique_names
from keymallet.sources.batches.sections import section_as
from keymallet.sources.export.json_rows import record_places
from keymallet.sources.scim.users import Tenant
from keymallet.sources.sections import ScimSection, SourceSection

_NAMED_BY = "bulkId:"
_GIVEN = ("stable-id", *NAMES_FOR_CHANGES)
"""Facts that the service makes when it takes the user."""
_BELONGING = (ACCOUNT.name, KEY.name, GRANT.name, FACTOR.name)


def read_batch(path: str, data: bytes, section: SourceSection | None, at: datetime) -> Batch:
    """The users that its operations would create. Raises KeymalletError where it creates none."""
    batch = Batch(path)
    users: list[dict[str, Any]] = []
    groups: list[dict[str, Any]] = []
    for line, operation in _operations(path, data, batch):
        method, where = str(operation.get("method", "")).upper(), str(operation.get("path", ""))
        about = operation.get("data")
        if not isinstance(about, dict):
            batch.refused.append(Refusal(path, line, "an operation without data"))
        elif (method, where) == ("POST", "/Users"):
            users.append({**about, "id": f"{_NAMED_BY}{operation.get('bulkId', '')}"})
            batch.lines.append(line)
        elif where == "/Groups" or where.startswith("/Groups/"):
            groups.append(_group(where, operation, about))
        else:
            what = f"{method or 'no method'} {where}"[:60]
            batch.refused.append(Refusal(path, line, f"it asks for something else than to create: {what}"))
    if not users:
        hint = '{"method": "POST", "path": "/Users", "bulkId": "1", "data": {…}}'
        raise fail("no operation creates a user", file=path, line=1, hint=hint)
    logins = [user.get("userName") for user in users]
    batch.written = pl.Series(
        [login if isinstance(login, str) else None for login in logins], dtype=pl.String
    )
    keys = unique_names(batch.written, batch.lines)
    reading = Reading("batch")
    tenant = Tenant(section_as(section, ScimSection, read="scim", url=path, facts={}), reading, groups)
    tenant.add([{**user, "userName": key} for user, key in zip(users, keys, strict=True)])
    tenant.enter()
    for name, frame in reading.tables.items():
        if name in _BELONGING:
            # The service itself gives an id: until then they are known by that of the request.
            batch.tables[name] = frame.drop(_GIVEN, strict=False)
            told = reading.supply[name].items()
            batch.supply[name] = {fact: how for fact, how in told if fact not in _GIVEN}
    passwords = [user.get(PASSWORD) for user in users]
    texts = [password if isinstance(password, str) else None for password in passwords]
    batch.tables[PLANNED.name] = pl.DataFrame({"account": keys, PASSWORD: pl.Series(texts, dtype=pl.String)})
    batch.supply[PLANNED.name] = {"account": "userName"}
    if any(PASSWORD in user for user in users):
        batch.supply[PLANNED.name][PASSWORD] = "password"
    batch.told_by = {
        f"{name}.{fact}": where
        for name, facts in batch.supply.items()
        for fact, where in facts.items()
        if fact not in ("kind", "groups")
    }
    for intake in reading.intake.values():
        batch.refused += intake.refusals
        batch.unreadable += intake.unreadable_cells
    batch.remarks += reading.remarks
    return batch


def _operations(path: str, data: bytes, batch: Batch) -> Iterator[tuple[int, dict[str, Any]]]:
    """The operations with the line each begins on; what is no object is refused."""
    place, line = 0, 1
    for at, text in record_places(data.removeprefix(b"\xef\xbb\xbf"), path, "Operations"):
        line += data.count(b"\n", place, at)
        place = at
        operation = json.loads(text)
        if isinstance(operation, dict):
            yield line, operation
        else:
            batch.refused.append(Refusal(path, line, "an operation that is no object"))


def _group(where: str, operation: dict[str, Any], about: dict[str, Any]) -> dict[str, Any]:
    """A group with the members that the operation gives it: it is made, or members are added to it."""
    ident = where.removeprefix("/Groups").strip("/") or f"{_NAMED_BY}{operation.get('bulkId', '')}"
    members = about.get("members") or []
    for each in about.get("Operations") or []:
        if isinstance(each, dict) and str(each.get("op", "")).lower() == "add":
            value = each.get("value")
            told = value.get("members", []) if isinstance(value, dict) else value or []
            members = [*members, *(told if isinstance(told, list) else [told])]
    return {"id": ident, "displayName": about.get("displayName") or ident, "members": members}
