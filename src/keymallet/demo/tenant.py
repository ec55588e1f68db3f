"""The railway's tenant in a cloud directory: users and groups as a SCIM service would give them."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from keymallet.core.facts import scim_extension
from keymallet.demo.accounts import Account
from keymallet.demo.directory import railway_directory
from keymallet.demo.patched import first_version

CORE = "urn:ietf:params:scim:schemas:core:2.0"
ENTERPRISE = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
_KINDS = {
    "Staff": "person",
    "Contractor": "person",
    "Guest": "guest",
    "Service": "service",
    "Counter": "shared",
    "Break-glass": "emergency",
}
_METHODS = {
    "Password": "password",
    "Code app": "otp",
    "Push": "push",
    "Text message": "sms",
    "Voice call": "voice",
    "Passkey": "passkey",
    "Hardware key": "hardware-key",
}
_STATES = {"OK": "active", "Paused": "suspended", "Invited": "pending", "Revoked": "revoked"}


def tenant() -> tuple[list[dict[str, Any]], list[dict[str, Any]]]:
    """All users and all groups, in the order of their ids."""
    accounts = railway_directory().accounts
    users = sorted((_user(account) for account in accounts), key=lambda user: str(user["id"]))
    names = sorted({group for account in accounts for group in account.groups})
    groups = [
        {
            "schemas": [f"{CORE}:Group"],
            "id": f"g-{place:03}",
            "displayName": name,
            "members": [
                {"value": account.object_id, "type": "User"} for account in accounts if name in account.groups
            ],
        }
        for place, name in enumerate(names)
    ]
    return users, groups


def in_force() -> dict[str, list[dict[str, Any]]]:
    """What the tenant asks of those who sign in, and its password policy, by the name of their resources."""
    gate, setting = scim_extension.IN_FORCE
    gates: list[dict[str, Any]] = [
        {
            "gate": "everybody",
            "state": "in-force",
            "asksFor": ["any-second"],
            "covers": ["everyone"],
            "leavesOut": ["emergency-1", "emergency-2", "old-mail-relay"],
            "applications": ["*"],
        },
        {
            "gate": "administrators",
            "state": "on-trial",
            "asksFor": ["phishing-resistant"],
            "covers": ["admins-users", "admins-mail"],
            "leavesOut": [],
            "applications": ["*"],
        },
    ]
    policy: dict[str, Any] = {
        "setting": "everybody",
        "appliesTo": ["everyone"],
        "minLength": 14,
        "history": 12,
        "lockAfter": 10,
        "lockFor": "15min",
        "sessionLimit": "12h",
    }
    return {
        "Gates": [
            {"schemas": [gate], "id": f"gate-{n}", **fields} for n, fields in enumerate(gates, start=1)
        ],
        "Settings": [{"schemas": [setting], "id": "setting-1", **policy}],
    }


def resource_types() -> list[dict[str, Any]]:
    """Which kinds of resources there are, and where."""
    kinds = {"User": f"{CORE}:User", "Group": f"{CORE}:Group"}
    kinds |= {urn.rpartition(":")[2]: urn for urn in scim_extension.IN_FORCE}
    return [{"id": name, "name": name, "endpoint": f"/{name}s", "schema": urn} for name, urn in kinds.items()]


def schemas() -> list[dict[str, Any]]:
    """The attributes of users, as far as the stand-in has them."""
    core = "id userName displayName active userType title emails meta groups roles"
    own = [scim_extension.camel(column.name) for column in scim_extension.ACCOUNT_COLUMNS]
    listed = {
        f"{CORE}:User": core.split(),
        ENTERPRISE: ["employeeNumber", "department", "manager"],
        scim_extension.URN: [*own, *scim_extension.LISTS],
    }
    return [
        {"id": urn, "name": urn.rpartition(":")[2], "attributes": [{"name": name} for name in names]}
        for urn, names in listed.items()
    ]


def _user(account: Account) -> dict[str, Any]:
    own: dict[str, Any] = {
        "kind": _KINDS[account.account_type],
        "interactive": account.console,
        "ends": _instant(account.valid_to),
        "lastSignIn": _instant(account.last_sign_in),
        "hasPassword": account.password_set is not None,
        "passwordEmpty": False,
        "passwordChanged": _instant(account.password_set),
        "passwordNeverExpires": account.never_expires,
        "initialPassword": account.handed_out,
        "locked": account.locked,
        "lockedUntil": _instant(account.locked_until),
        "failedAttempts": account.failed,
        "labels": account.tags,
        "factors": [
            _plain(
                kind=_METHODS[role.method],
                registered=_instant(role.enrolled),
                lastUsed=_instant(role.last_used),
                state=_STATES[role.state],
                label=role.label or None,
            )
            for role in account.factors
        ],
        "keys": [
            _plain(
                kind="api-key",
                key=role.key,
                issued=_instant(role.issued),
                lastUsed=_instant(role.last_used),
                state=_STATES[role.state],
                scope=role.scope,
            )
            for role in account.keys
        ],
        "grants": [
            _plain(
                role=role.role,
                privileged=role.privileged,
                mode="standing" if role.held == "Always" else "on-request",
                via=role.through,
            )
            for role in account.roles
        ],
        "elevations": [],
    }
    return _plain(
        schemas=[f"{CORE}:User", ENTERPRISE, scim_extension.URN],
        id=account.object_id,
        userName=account.login,
        displayName=account.name,
        active=account.enabled,
        userType=account.account_type,
        title=account.job or None,
        emails=[{"value": f"{account.login}@gvr.example", "primary": True}],
        meta={
            "resourceType": "User",
            "created": _instant(account.created),
            "version": first_version(),
        },
        **{ENTERPRISE: _plain(employeeNumber=account.staff_no or None, department=account.unit)},
        **{scim_extension.URN: _plain(**own)},
    )


def _plain(**values: Any) -> dict[str, Any]:
    """What there is of these: an attribute without a value is left out, as SCIM has it."""
    return {name: value for name, value in values.items() if value is not None}


def _instant(instant: datetime | None) -> str | None:
    return f"{instant:%Y-%m-%dT%H:%M:%SZ}" if instant else None
