"""What the railway's directory hands out for a while: invitations, links, passes and sessions."""

from __future__ import annotations

from datetime import timedelta

from keymallet.demo.accounts import AT, Account, Key

INVITATION, RESET, PASS, SESSION = "Invitation", "Reset link", "One-time pass", "Session"
_WORDS = {INVITATION: "invitation", RESET: "reset-link", PASS: "entry-code", SESSION: "session"}


def plant_passes(accounts: list[Account]) -> None:
    """Hand out a few in good order, and some that last too long, or are good when they should not be."""
    staff = [other for other in accounts if other.account_type == "Staff" and other.enabled]
    free = [other for other in staff if not other.causes and not other.roles]
    guests = [other for other in accounts if other.account_type == "Guest" and other.enabled]
    numbers = iter(range(1, 100))

    def hand(account: Account, kind: str, age: float, lasts: float, *rules: str, **more: object) -> Key:
        """One that is so many hours old and lasts for so many."""
        issued = AT - timedelta(hours=age)
        key = Key(f"GVR-H-{next(numbers):03d}", issued, None, scope="", kind=kind, uses_left=1)
        key.expires = issued + timedelta(hours=lasts)
        for name, value in more.items():
            setattr(key, name, value)
        account.keys.append(key)
        for rule in rules:
            account.cause(rule, f"{_WORDS[kind]} {key.key}")
        return key

    for place in range(4):
        hand(guests[place], INVITATION, 20 + place, 48)
    for place in (4, 5):
        hand(guests[place], INVITATION, 100, 30 * 24, "pass-short")
    hand(free[110], RESET, 1, 2)
    old = hand(free[111], RESET, 20, 24, "pass-replaced")
    old.replaced_by = hand(free[111], RESET, 2, 4).key
    hand(free[112], PASS, 3, 8, "pass-good-once", last_used=AT - timedelta(hours=1))
    hand(free[113], PASS, 3, 8, "pass-good-once", uses_left=5)
    admin = next(other for other in accounts if other.job == "Systems administrator" and other.roles)
    hand(admin, RESET, 1, 2, "pass-not-for-power")
    for place in range(5):
        hand(free[115 + place], SESSION, 2, 10, uses_left=None, last_used=AT - timedelta(minutes=5))
    hand(free[121], SESSION, 30, 90, "session-short", uses_left=None, last_used=AT - timedelta(hours=1))
    leaver = next(other for other in accounts if not other.enabled and other.account_type == "Staff")
    hand(leaver, SESSION, 3, 10, "session-of-disabled", uses_left=None, last_used=AT - timedelta(hours=2))
    for account in accounts:
        if account.account_type == "Service" and sum(_works(key) for key in account.keys) > 1:
            account.cause("one-api-key")
    idle = next(
        other
        for other in accounts
        if other.account_type == "Service" and len(other.keys) == 1 and not other.causes
    )
    idle.keys[0].issued, idle.keys[0].last_used = AT - timedelta(days=85), AT - timedelta(days=60)
    idle.cause("api-key-idle", f"api-key {idle.keys[0].key}")


def _works(key: Key) -> bool:
    return key.kind == "API key" and key.state == "OK"


def plant_ends(accounts: list[Account]) -> None:
    """Accounts that go on after the contract they were made for."""
    contractors = [
        other for other in accounts
        if other.account_type == "Contractor" and not other.causes
        and other.valid_to and other.valid_to > AT + timedelta(days=15)
    ]  # fmt: skip
    for account in contractors[:2]:
        assert account.valid_to
        account.valid_to += timedelta(days=60)
        account.cause("ends-with-contract")
