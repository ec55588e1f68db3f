"""The one spelling of attribute names: a service may write them in any case (RFC 7643, 2.1)."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

from keymallet.core.facts import scim_extension
from keymallet.core.facts.declaration import TABLES

ENTERPRISE = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
_OF_MESSAGES = "Resources totalResults itemsPerPage startIndex nextCursor detail pagination cursor".split()
_OF_SCHEMAS = "attributes subAttributes name returned schema endpoint".split()
_OF_RESOURCES = (
    "id userName displayName name formatted emails active userType title meta created entitlements roles"
    " x509Certificates groups members value display primary type $ref employeeNumber department division"
    " manager"
).split()
_OF_TABLES = [
    *(scim_extension.camel(column.name) for table in TABLES.values() for column in table.columns),
    *scim_extension.LISTS,
]
_SPELT = {
    name.lower(): name
    for name in (
        *_OF_TABLES,
        *_OF_SCHEMAS,
        *_OF_MESSAGES,
        *_OF_RESOURCES,
        ENTERPRISE,
        scim_extension.URN,
    )
}
_DEEPEST = 12


@lru_cache(maxsize=4096)
def spelt(name: str) -> str:
    """A name as the standard spells it; one that is not known stays as it is."""
    return _SPELT.get(name.lower(), name)


def respelt(value: Any, depth: int = 0) -> Any:
    """A JSON value with all names in it spelt as the standard does; what lies deeper than any is left."""
    if depth > _DEEPEST:
        return value
    if isinstance(value, dict):
        return {spelt(name): respelt(member, depth + 1) for name, member in value.items()}
    if isinstance(value, list):
        return [respelt(member, depth + 1) for member in value]
    return value
