"""The railway's staff list as a second service of the stand-in gives it: SCIM users who are people."""

from __future__ import annotations

from typing import Any

from keymallet.demo.people import Person
from keymallet.demo.railway import in_week
from keymallet.demo.tenant import CORE, ENTERPRISE
from keymallet.demo.weeks import LAST

EMPLOYMENT = "urn:gvr:scim:schemas:extension:employment:1.0:User"
_STATES = {"to come": "expected", "working": "present", "on leave": "away", "left": "left"}


def staff() -> list[dict[str, Any]]:
    """Everybody on the staff list, with the railway's own extension for days and state."""
    return [_user(person) for person in in_week(LAST).staff]


def _user(person: Person) -> dict[str, Any]:
    employment = {
        "firstDay": person.joins.isoformat(),
        "lastDay": person.leaves.isoformat() if person.leaves else None,
        "state": _STATES[person.state],
    }
    company: dict[str, Any] = {"employeeNumber": person.number, "department": person.unit}
    if person.manager:
        company["manager"] = {"value": f"p-{person.manager}"}
    return {
        "schemas": [f"{CORE}:User", ENTERPRISE, EMPLOYMENT],
        "id": f"p-{person.number}",
        "userName": person.mail,
        "displayName": person.name,
        "active": person.state != "left",
        "userType": person.contract,
        "emails": [{"value": person.mail, "primary": True}],
        ENTERPRISE: company,
        EMPLOYMENT: {name: value for name, value in employment.items() if value is not None},
    }
