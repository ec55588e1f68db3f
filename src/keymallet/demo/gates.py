"""What the railway's directory asks of those who sign in, and the devices that prove it.

Who falls between its gates is planted here, and the findings that has to cause.
"""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from datetime import timedelta

from keymallet.demo.accounts import AT, Account


@dataclass
class Gate:
    """A line of gates.csv, and the findings that it has to cause."""

    name: str
    state: str
    asks_for: str
    covers: list[str]
    leaves_out: list[str]
    causes: list[tuple[str, str]]


def plant_gates(accounts: list[Account]) -> list[Gate]:
    """The gates of the directory; enters groups that they name, and whom they do not reach."""
    for account in accounts:
        if account.account_type == "Contractor":
            account.groups.append("contractors")
        if account.job == "Systems administrator":
            account.groups.append("admins-users")
    forgotten = _free(accounts)[40]
    for account in accounts:
        machine = account.account_type == "Service" and account.console
        if account.enabled and (account.account_type in ("Guest", "Counter") or machine):
            account.cause("second-factor-asked")
    forgotten.cause("second-factor-asked")
    forgotten.cause("left-out-in-register")
    west, east = (account for account in accounts if account.account_type == "Break-glass")
    west.cause("second-factor-asked")
    # Asked by the administrators' gate for what it does not have.
    for rule in ("drilled", "use-explained", "watched", "not-shut-out"):
        east.cause(f"emergency-{rule}")
    return [
        Gate("Staff prove twice", "In force", "Any second factor", ["all-staff", "emergency"],
             ["emergency-1", "emergency-2", forgotten.login], []),
        Gate("Contractors prove twice", "In force", "Any second factor", ["contractors"], [], []),
        Gate("Guests prove twice", "Report only", "Any second factor", ["outside"], [],
             [("gate-not-only-on-trial", "Guests prove twice")]),
        Gate("Administrators prove soundly", "In force", "Resistant factor", ["admins-users", east.login],
             [], []),
        Gate("Interlocking consoles", "In force", "Resistant factor", ["interlocking-desk"], [],
             [(rule, "Interlocking consoles") for rule in ("gate-asks-somebody", "gate-names-somebody")]),
        Gate("Old remote access", "Off", "Code app", ["all-staff"], [], []),
    ]  # fmt: skip


def plant_devices(accounts: list[Account]) -> None:
    """A device for each factor that is on one: shared by some, left in the box by others."""
    for account in accounts:
        for factor in account.factors:
            if factor.method not in ("Password", "Text message", "Voice call"):
                factor.device = hashlib.sha256(f"{account.login} {factor.method}".encode()).hexdigest()[:16]
    free = [account for account in _free(accounts) if len(account.factors) > 1]
    first, second = free[60:62]
    second.factors[1].device = first.factors[1].device
    for account in (first, second):
        account.cause("factor-of-one-person", f"{_KINDS[account.factors[1].method]} active")
    admin = next(account for account in accounts if account.job == "Systems administrator")
    east = next(account for account in accounts if account.login == "emergency-2")
    east.factors[0].device = admin.factors[1].device
    for account in (admin, east):
        account.cause("factor-of-one-person", f"{_KINDS[account.factors[-1].method]} active")
    for account in free[70:74]:
        account.factors[1].enrolled, account.factors[1].last_used = AT - timedelta(days=250), None
        account.cause("factor-used", f"{_KINDS[account.factors[1].method]} active")


_KINDS = {"Code app": "otp", "Push": "push", "Passkey": "passkey", "Hardware key": "hardware-key"}


def _free(accounts: list[Account]) -> list[Account]:
    """Staff in good order that nothing else was planted in."""
    return [
        account
        for account in accounts
        if account.account_type == "Staff" and account.enabled and not account.causes and not account.roles
    ]
