"""Locks of the railway's directory: since when, by what, and the policies that set them."""

from __future__ import annotations

from datetime import timedelta

from keymallet.demo.accounts import AT, Account

SETTINGS = (
    ("Policy", "For", "Shortest password", "Classes", "Password age", "Locks after", "Locks for",
     "Counts within", "Idle", "Session", "Change at first use"),
    ("Everybody", "everyone", "14", "3", "180d", "10", "30min", "30min", "30min", "12h", "yes"),
    ("Machines", "machines", "24", "3", "-", "10", "30min", "30min", "-", "-", "yes"),
    ("Emergency", "emergency", "24", "3", "-", "5", "-", "5min", "15min", "24h", "yes"),
)  # fmt: skip
"""settings.csv, header and all."""


def plant_locks(accounts: list[Account]) -> None:
    """Say of each lock since when it stands and what set it; lock a few more, and note what that causes."""
    for number, account in enumerate(other for other in accounts if other.locked):
        account.lock_cause = "Failures"
        end = account.locked_until
        account.locked_since = end - timedelta(minutes=30) if end else AT - timedelta(hours=3 + number)
    for account in accounts:
        if account.account_type == "Break-glass":
            account.cause("emergency-cannot-be-locked")
    free = [
        other for other in accounts if other.account_type == "Staff" and other.enabled and not other.causes
    ]
    for account in free[100:102]:
        account.failed = 7
    # By the service desk, since a phone was lost: no failure had anything to do with it.
    free[104].locked, free[104].lock_cause = True, "Service desk"
    free[104].locked_since = AT - timedelta(days=2, hours=5)
    free[104].cause("locked")
