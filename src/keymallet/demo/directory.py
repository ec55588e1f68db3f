"""The railway's directory: about 400 accounts in good order, and the faults planted among them.

Each fault notes the finding it has to cause, so that what is found can be held against it.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta

from keymallet.demo.accounts import AT, Account, Factor, Railway, Role


def railway_directory(seed: int = 20261124) -> Railway:
    """The railway with its directory accounts, and every fault planted that shows in these alone."""
    railway = Railway(seed)
    staff = iter(railway.staff(290))
    contractors = iter(railway.temporary(20, "Contractor"))
    guests = iter(railway.temporary(25, "Guest"))
    services = iter(railway.services(30))
    railway.counters(10)
    emergency = railway.emergency(2)
    administrators = iter(railway.administrators(12))
    leavers = iter(railway.leavers(25))
    _plant_factors(railway, staff, administrators, emergency)
    _plant_passwords(railway, staff)
    _plant_life(railway, staff, contractors, guests)
    _plant_locks(railway, staff)
    _plant_machines(railway, services, leavers)
    _plant_privilege(staff, administrators)
    return railway


def _take(accounts: Iterator[Account], number: int) -> list[Account]:
    return [next(accounts) for _ in range(number)]


def _plant_factors(
    railway: Railway, staff: Iterator[Account], administrators: Iterator[Account], emergency: list[Account]
) -> None:
    for account in _take(staff, 4):
        account.factors = []
        account.cause("staff-second-factor")
    for account in _take(staff, 2):
        account.factors = [Factor("Password", account.created, account.last_sign_in)]
        account.cause("staff-second-factor")
    for account in _take(staff, 1):
        account.factors = [Factor("Push", railway.days_ago(3, 9), None, "Invited")]
        account.cause("staff-second-factor")
    for account in _take(staff, 5):
        account.factors = [
            account.factors[0],
            Factor("Text message", railway.days_ago(100, 900), account.last_sign_in),
        ]
        account.cause("more-than-a-phone-line")
    for account in _take(administrators, 2):
        account.factors[1].method = "Code app"
        account.cause("admin-strong-factor")
    for account in _take(administrators, 1):
        account.factors[1].method = "Voice call"
        account.cause("admin-strong-factor")
        account.cause("more-than-a-phone-line")
    emergency[1].factors[0].method, emergency[1].factors[0].label = "Code app", "duty phone"
    emergency[1].cause("emergency-ready")


def _plant_passwords(railway: Railway, staff: Iterator[Account]) -> None:
    for account in _take(staff, 9):
        account.password_set = railway.days_ago(181, 900)
        account.cause("password-age")
    # On the very last day, and a minute before it is over: still in order.
    next(staff).password_set = AT - timedelta(days=180)
    for account in _take(staff, 4):
        account.created = account.password_set = railway.days_ago(5, 25)
        account.handed_out = True
        account.cause("password-handed-out")
    for account in _take(staff, 3):
        account.never_expires = True
        account.cause("password-never-expires")


def _plant_life(
    railway: Railway, staff: Iterator[Account], contractors: Iterator[Account], guests: Iterator[Account]
) -> None:
    for account in _take(contractors, 4):
        account.valid_to = railway.days_ago(3, 40)
        account.cause("ended-still-enabled")
    # Valid through today: not ended yet.
    next(contractors).valid_to = AT
    for account in _take(contractors, 2) + _take(guests, 3):
        account.valid_to = None
        account.cause("temporary-has-end")
    for account in _take(staff, 7):
        account.last_sign_in = railway.days_ago(46, 170)
        account.cause("idle")
    for account in _take(staff, 3):
        account.created = account.password_set = railway.days_ago(40, 120)
        account.last_sign_in = None
        account.handed_out = True
        account.cause("never-used")
        account.cause("password-handed-out")
    # Made last week and not used yet: in order.
    newcomer = next(staff)
    newcomer.created, newcomer.last_sign_in = railway.days_ago(4, 7), None


def _plant_locks(railway: Railway, staff: Iterator[Account]) -> None:
    for account in _take(staff, 2):
        account.locked, account.failed = True, 10
        account.cause("locked")
    for account in _take(staff, 1):
        account.locked, account.failed, account.locked_until = True, 10, AT + timedelta(minutes=20)
        account.cause("locked")
    # The lock has run out, but still stands in the export.
    for account in _take(staff, 2):
        account.locked, account.failed, account.locked_until = True, 10, railway.days_ago(1, 5)


def _plant_machines(railway: Railway, services: Iterator[Account], leavers: Iterator[Account]) -> None:
    for account in _take(services, 2):
        account.console = True
        account.cause("service-no-session")
    for account in _take(services, 5):
        key = railway.key(91, 700)
        account.keys.append(key)
        account.cause("api-key-age", f"api-key {key.key}")
    for account in _take(services, 3):
        key = railway.key(31, 89, used=False)
        account.keys.append(key)
        account.cause("api-key-unused", f"api-key {key.key}")
    for account in _take(services, 2):
        key = railway.key(100, 700)
        key.state = "Revoked"
        account.keys.append(key)
    for account in _take(leavers, 2):
        key = railway.key(20, 80)
        account.keys.append(key)
        account.cause("api-key-of-disabled", f"api-key {key.key}")


def _plant_privilege(staff: Iterator[Account], administrators: Iterator[Account]) -> None:
    for account in _take(administrators, 2):
        account.roles.append(Role("Ticketing administrator", True, "direct"))
        account.cause("privilege-through-groups", "Ticketing administrator direct")
    for account in _take(administrators, 1):
        account.roles += [
            Role(f"{what} administrator", True, f"group admins-{what.lower()}")
            for what in ("Fares", "Track", "Lifts")
        ]
        account.cause("little-standing-privilege")
    # A daily account with privilege given directly, and without a factor that resists phishing.
    for account in _take(staff, 1):
        account.roles.append(Role("Signalling administrator", True, "direct"))
        account.factors = [account.factors[0], Factor("Code app", account.created, account.last_sign_in)]
        account.cause("privilege-through-groups", "Signalling administrator direct")
        account.cause("admin-strong-factor")
