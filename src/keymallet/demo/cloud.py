"""The railway's accounts in a cloud service, and what is amiss between it and the directory."""

from __future__ import annotations

import json
import random
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from keymallet.demo.accounts import AT, Account


@dataclass
class CloudUser:
    """A user of the cloud service, and the findings that faults planted in it have to cause."""

    login: str
    ident: str
    mail: str
    unit: str
    status: str
    last_seen: int
    roles: list[str] = field(default_factory=list)
    causes: list[tuple[str, str]] = field(default_factory=list)

    def record(self) -> dict[str, Any]:
        """The user as the service exports them."""
        return {
            "id": self.ident,
            "login": self.login,
            "profile": {"mail": self.mail, "department": self.unit},
            "status": self.status,
            "lastSeen": self.last_seen,
            "roles": [{"name": role} for role in self.roles],
        }


def cloud_users(accounts: list[Account]) -> list[CloudUser]:
    """A user for each of the staff; plants what differs from the directory."""
    chance = random.Random(len(accounts))
    staff = [account for account in accounts if account.account_type == "Staff"]
    users = [_user(account, chance) for account in staff if not account.login.startswith("adm-")]
    mine = {user.login: user for user in users}
    free = [account for account in staff if account.login in mine and account.enabled and not account.causes]
    in_order = iter([(account, mine[account.login]) for account in free[60:]])
    for _ in range(2):
        account, user = next(in_order)
        users.remove(user)
        account.cause("twin-in-cloud")
    for _ in range(2):
        account, user = next(in_order)
        user.status = "suspended"
        user.causes.append(("twins-agree", ""))
    _, user = next(in_order)
    user.unit = "Head office"
    user.causes.append(("twins-agree", ""))
    stray = CloudUser(
        "rollout-2019", f"u-{chance.getrandbits(40):010x}", "rollout@gvr.example", "Offices", "active", 0
    )
    stray.causes += [("cloud-account-known", ""), ("nobodys-account", "")]
    users.append(stray)
    causes = {account.login: account.causes for account in staff}
    for user in users:
        for rule in ("left-still-enabled", "not-yet-joined-enabled"):
            if (rule, "") in causes.get(user.login, []):
                user.causes.append((rule, ""))
    return users


def _user(account: Account, chance: random.Random) -> CloudUser:
    last_seen = account.last_sign_in or account.created
    return CloudUser(
        account.login,
        f"u-{chance.getrandbits(40):010x}",
        f"{account.login}@gvr.example",
        account.unit,
        "active" if account.enabled else "suspended",
        int(min(last_seen, AT).timestamp() * 1000),
        ["Mail", "Timetable"] + (["Fares"] if account.unit == "Ticketing" else []),
    )


def cloud_export(users: list[CloudUser], at: datetime) -> str:
    """The export of an instant: one JSON document."""
    document = {"exported": f"{at:%Y-%m-%dT%H:%M:%SZ}", "users": [user.record() for user in users]}
    return json.dumps(document, ensure_ascii=False, indent=1) + "\n"
