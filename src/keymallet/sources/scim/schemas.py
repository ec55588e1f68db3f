"""What a SCIM service says it holds (RFC 7643, 6 and 7): its kinds of resources, and their attributes.

A service need not tell. Where it does, a path in the estate that leads nowhere is found before all
users have come without the fact, and extensions that nobody reads are named with what they hold.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.problems import KeymalletError
from keymallet.core.facts.reading import Reading
from keymallet.sources.scim.service import GONE, Resource, ScimService

CORE_USER = "urn:ietf:params:scim:schemas:core:2.0:User"
_MOST_NAMED = 6
_DEEPEST = 4


class Schemas:
    """The attributes of each schema by their path within it; empty where the service does not tell."""

    def __init__(self, resources: list[Resource]) -> None:
        self.paths: dict[str, dict[str, str]] = {}
        for schema in resources:
            name = schema.get("id")
            if isinstance(name, str):
                self.paths[name] = dict(_attributes(schema.get("attributes"), ""))

    def check(self, mapped: Mapping[str, str], reading: Reading) -> None:
        """Remark on paths that lead to no attribute, and on attributes that the service never gives."""
        if CORE_USER not in self.paths:
            return
        for fact, path in mapped.items():
            lower = path.lower()
            above = (name for name in self.paths if lower.startswith(f"{name.lower()}:"))
            schema = max(above, key=len, default="")
            if not schema and path.lower().startswith("urn:"):
                reading.remarks.append(f"facts: {fact}: the service's schemas hold no {path}")
                continue
            inner = path[len(schema) + 1 :] if schema else path
            known = self.paths[schema or CORE_USER]
            inner = next((name for name in known if name.lower() == inner.lower()), inner)
            if inner not in known:
                hint = did_you_mean(inner, known)
                complaint = f"facts: {fact}: the service's schema has no attribute {inner}"
                reading.remarks.append(f"{complaint}; {hint}" if hint else complaint)
            elif known[inner] == "never":
                reading.remarks.append(f"facts: {fact}: the service never gives {inner} to anybody")

    def named(self, schema: str) -> str:
        """An extension with what it holds: `urn:… (lastLogin, device)`."""
        inner = [path for path in self.paths.get(schema, ()) if "." not in path]
        if not inner:
            return schema
        return f"{schema} ({', '.join(inner[:_MOST_NAMED])}{' …' if len(inner) > _MOST_NAMED else ''})"


def _attributes(declared: Any, prefix: str, depth: int = 0) -> list[tuple[str, str]]:
    """Paths with when each is returned."""
    inner: list[tuple[str, str]] = []
    for attribute in declared if isinstance(declared, list) else []:
        if isinstance(attribute, dict) and isinstance(attribute.get("name"), str) and depth < _DEEPEST:
            path = f"{prefix}{attribute['name']}"
            inner.append((path, str(attribute.get("returned", "default"))))
            inner += _attributes(attribute.get("subAttributes"), f"{path}.", depth + 1)
    return inner


def read_schemas(service: ScimService) -> Schemas:
    """What the service tells of its schemas; nothing, if it does not."""
    return Schemas(_listed(service, "Schemas"))


def endpoints(service: ScimService) -> dict[str, str]:
    """Where resources of each schema are, by the schema's name."""
    endpoints = {}
    for resource_type in _listed(service, "ResourceTypes"):
        schema, endpoint = resource_type.get("schema"), resource_type.get("endpoint")
        if isinstance(schema, str) and isinstance(endpoint, str):
            endpoints[schema] = endpoint.strip("/")
    return endpoints


def _listed(service: ScimService, path: str) -> list[Resource]:
    try:
        return service.told(path)
    except KeymalletError as error:
        if error.problems[0].message.startswith(GONE):
            raise
        return []
