"""Passwords of the railway's directory that show what they are only beside others, or by nobody's answer."""

from __future__ import annotations

from datetime import timedelta

from keymallet.demo.accounts import AT, Account

BATCH = 18


def plant_passwords(accounts: list[Account]) -> None:
    """One password for a whole course of guests; new ones that were asked for, and never came."""
    guests = [other for other in accounts if other.account_type == "Guest" and other.enabled]
    for number, account in enumerate(guests[:BATCH]):
        # Older than any password that was set by chance: nobody else's falls on the day.
        account.password_set = AT - timedelta(days=160, minutes=number + 1)
        account.cause("password-batch")
    free = [
        other
        for other in accounts
        if other.account_type == "Staff" and other.enabled and not other.causes and not other.roles
    ]
    for account in free[90:93]:
        account.must_change = True
        account.cause("password-change-answered")
