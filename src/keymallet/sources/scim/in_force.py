"""Sign-in requirements and policies of a service, where it has resources for them under our own names.

SCIM has no resource for either. A service that offers one says so under `/ResourceTypes`; its members
hold the columns of the table in camel case, as our extension of users does.
"""

from __future__ import annotations

from typing import Any

import polars as pl

from keymallet.core.base.problems import KeymalletError
from keymallet.core.facts import scim_extension
from keymallet.core.facts.evidence import UNREAD, data_type
from keymallet.core.facts.model import Table
from keymallet.core.facts.reading import Reading, Refusal
from keymallet.sources.scim.schemas import endpoints
from keymallet.sources.scim.service import Resource, ScimService
from keymallet.sources.scim.values import UnreadableError, converted


def read_in_force(service: ScimService, reading: Reading) -> None:
    """Enter the gates and settings that the service has resources for; none, if it has none."""
    offered = endpoints(service)
    for urn, table in scim_extension.IN_FORCE.items():
        if urn not in offered:
            continue
        try:
            resources = [resource for page in service.pages(offered[urn], ()) for resource in page]
        except KeymalletError as error:
            reading.incomplete.append(f"{table.name}s: {error.problems[0].message}")
            continue
        _enter(table, resources, service.section.url, reading)


def _enter(table: Table, resources: list[Resource], url: str, reading: Reading) -> None:
    intake, key = reading.table_intake(table.name), table.names[0]
    supply: dict[str, str] = {key: f"{url}, {key}"}
    rows: list[dict[str, Any]] = []
    for resource in resources:
        row: dict[str, Any] = {UNREAD: None}
        for column in table.columns:
            value = resource.get(scim_extension.camel(column.name))
            if value is None or column.name == "source":
                continue
            supply.setdefault(column.name, f"{url}, {scim_extension.camel(column.name)}")
            try:
                row[column.name] = converted(column, value)
            except UnreadableError as error:
                row[UNREAD] = [*(row[UNREAD] or []), column.name]
                intake.cannot_read(
                    1, [Refusal(url, 0, f"{str(resource.get('id'))[:60]}: {error}", column.name)]
                )
        if row.get(key):
            rows.append(row)
        else:
            intake.refuse(Refusal(url, 0, f"{table.name} {str(resource.get('id'))[:60]}: it has no {key}"))
    schema: dict[str, Any] = {column.name: data_type(column) for column in table.columns}
    frame = pl.DataFrame(rows, schema=schema | {UNREAD: pl.List(pl.String)})
    unread = [UNREAD] if frame[UNREAD].null_count() < frame.height else []
    reading.tables[table.name] = frame.select(*(name for name in table.names if name in supply), *unread)
    reading.supply[table.name] = supply
    intake.read += frame.height
