"""`read = "scim"`: a service over SCIM 2.0 (RFC 7643, RFC 7644), read and never written.

Strict about what is used, tolerant of what is not: one odd attribute costs its own fact, not a page.
What arrives is held against what the service says there is.
"""

from __future__ import annotations

from itertools import islice

import msgspec

from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.problems import KeymalletError, fail
from keymallet.core.facts.declaration import ACCOUNT, PERSON
from keymallet.core.facts.reading import Reading
from keymallet.sources.request import Request
from keymallet.sources.scim.in_force import read_in_force
from keymallet.sources.scim.people import Staff
from keymallet.sources.scim.schemas import read_schemas
from keymallet.sources.scim.service import GONE, GROUPS, NOT_THERE, USERS, Resource, ScimService
from keymallet.sources.scim.users import ATTRIBUTES, Tenant
from keymallet.sources.sections import ScimSection


def read(section: ScimSection, request: Request) -> list[Reading]:
    """Read the service. Raises KeymalletError if it cannot be reached, or lets the reader see nobody."""
    _check_facts(section)
    reading = Reading(request.name)
    if not section.verify_certificate:
        remark = "the server's certificate was not verified, as the estate says"
        reading.remarks.append(f"{section.url}: {remark}")
    with ScimService(section, request, reading) as service:
        schemas = read_schemas(service)
        schemas.check(section.facts, reading)
        taker: Tenant | Staff
        if section.roster:
            taker = Staff(section, request, reading)
        else:
            taker = Tenant(section, reading, _groups(service, reading), schemas)
            read_in_force(service, reading)
        for page in service.pages(USERS, ATTRIBUTES + tuple(section.facts.values())):
            taker.add(page)
    if not taker.has_users:
        raise fail("the service shows no user", file=section.url, hint="may this reader see anybody?")
    taker.enter()
    return [reading]


def knock(section: ScimSection, request: Request) -> None:
    """Ask a service anything, without signing in. Raises KeymalletError if it cannot be reached."""
    nobody = msgspec.structs.replace(section, token_from="")
    with ScimService(nobody, request, Reading(request.name)) as service:
        try:
            service.told("ServiceProviderConfig")
        except KeymalletError as error:
            if error.problems[0].message.startswith(GONE):
                raise


def sample(section: ScimSection, request: Request) -> list[Reading]:
    """What the reader may see of the first users, as they would be read. Raises as `read` does."""
    reading = Reading(request.name)
    with ScimService(section, request, reading) as service:
        taker: Tenant | Staff
        if section.roster:
            taker = Staff(section, request, reading)
        else:
            taker = Tenant(section, reading, None, read_schemas(service))
        for page in islice(service.pages(USERS, ATTRIBUTES), 1):
            taker.add(page)
    taker.enter()
    return [reading]


def _check_facts(section: ScimSection) -> None:
    """Facts that the estate maps have to be some. Raises KeymalletError."""
    table = PERSON if section.roster else ACCOUNT
    names = [column.name for column in table.columns if not column.across]
    names = [name for name in names if name not in ("account", "source")]
    for fact in section.facts:
        if fact not in names:
            hint = did_you_mean(fact, names) or f'"keymallet dictionary {table.name}" lists them'
            raise fail(f'facts: {table.name} has no column "{fact}"', file=section.url, hint=hint)


def _groups(service: ScimService, reading: Reading) -> list[Resource] | None:
    """The groups; None where the service has none to show, which is not the same as none."""
    try:
        pages = service.pages(GROUPS, ("id", "displayName", "members"))
        return [group for page in pages for group in page]
    except KeymalletError as error:
        message = error.problems[0].message
        if message.startswith(GONE):
            raise
        if message.startswith(NOT_THERE):
            reading.remarks.append(f"groups: {message}: who is in which is unknown")
        else:
            reading.incomplete.append(f"groups: {message}")
        return None
