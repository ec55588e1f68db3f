"""Sign-ins to the railway's directory: one for everybody who came lately, and what attackers tried."""

from __future__ import annotations

import random
from dataclasses import dataclass
from datetime import datetime, timedelta

from keymallet.demo.accounts import AT, CLOCK, Account
from keymallet.demo.openings import Opening

KEPT = timedelta(days=30)
"""The directory keeps its sign-ins so long."""
_TOLD = KEPT + timedelta(days=21)
"""So far back they are made for those who work while privilege is open, for the weeks before."""
SPRAYING, HAMMERING = "203.0.113.44", ("198.51.100.7", "198.51.100.8", "198.51.100.19")
SPRAYED = 25


@dataclass
class SignIn:
    """A line of sign-ins.csv."""

    login: str
    at: datetime
    succeeded: bool
    cause: str
    proof: str
    origin: str


def plant_sign_ins(accounts: list[Account], openings: list[Opening]) -> list[SignIn]:
    """All sign-ins of a month; enters who worked outside of openings, or with what is for emergencies."""
    chance = random.Random(20261125)
    for_work = [sign_in for sign_in in accounts if sign_in.job == "Systems administrator" and sign_in.roles][
        6:9
    ]
    sign_ins = _of_openings(for_work, openings)
    outside = for_work[0]
    for days, hour in ((1, 3.25), (6, 22.5)):
        at = _day(days, hour)
        sign_ins.append(SignIn(outside.login, at, True, "", "Passkey", "gvr-admin-4.gvr.example"))
        outside.cause("work-in-opening", named(sign_ins[-1]))
    for account in for_work:
        account.last_sign_in = max(sign_in.at for sign_in in sign_ins if sign_in.login == account.login)
    east = next(account for account in accounts if account.login == "emergency-2")
    assert east.last_sign_in
    for days in (2, 4, 6):
        at = east.last_sign_in - timedelta(days=days)
        sign_ins.append(SignIn(east.login, at, True, "", "Code app", "desk-12.offices.gvr.example"))
    east.cause("emergency-for-emergencies")
    sign_ins += [
        _last(account, chance) for account in accounts if _came_lately(account) and account not in for_work
    ]
    for sign_in in sign_ins:
        if sign_in.login == east.login:
            east.cause("emergency-sign-ins", named(sign_in))
    sign_ins += _failures(accounts, chance)
    return sorted(sign_ins, key=lambda sign_in: (sign_in.at, sign_in.login))


def named(sign_in: SignIn) -> str:
    """How findings name a sign-in: by its minute in the railway's clock, and where it came from."""
    return f"{sign_in.at.astimezone(CLOCK):%Y-%m-%d %H:%M} from {sign_in.origin}"


def _day(days: int, hour: float) -> datetime:
    return AT.replace(hour=0) - timedelta(days=days) + timedelta(hours=hour)


def _of_openings(for_work: list[Account], openings: list[Opening]) -> list[SignIn]:
    """Those who work only while privilege is open sign in a few minutes after it was opened."""
    logins = {account.login for account in for_work}
    return [
        SignIn(
            opening.login,
            opening.starts + timedelta(minutes=4),
            True,
            "",
            opening.proof,
            "gvr-admin-2.gvr.example",
        )
        for opening in openings
        if opening.login in logins and AT - _TOLD < opening.starts < AT and opening.outcome == "Opened"
    ]


def _came_lately(account: Account) -> bool:
    return account.last_sign_in is not None and AT - KEPT < account.last_sign_in < AT


def _last(account: Account, chance: random.Random) -> SignIn:
    assert account.last_sign_in
    proof = account.factors[-1].method if account.factors else "Password"
    place = account.unit.lower().replace(" ", "-")
    return SignIn(
        account.login,
        account.last_sign_in,
        True,
        "",
        proof,
        f"desk-{chance.randint(1, 40)}.{place}.gvr.example",
    )


def _failures(accounts: list[Account], chance: random.Random) -> list[SignIn]:
    """Somebody who tries one password on many, somebody who tries many on one, and people who mistype."""
    enabled = [account for account in accounts if account.enabled]
    staff = [account for account in enabled if account.account_type == "Staff"]
    sign_ins = []
    night = _day(3, 1.5)
    for account in staff[30 : 30 + SPRAYED]:
        for _ in range(2):
            at = night + timedelta(seconds=chance.randint(0, 1500))
            sign_ins.append(SignIn(account.login, at, False, "wrong password", "", SPRAYING))
    service = next(account for account in enabled if account.login == "svc-payroll-1")
    for _ in range(45):
        at = _day(1, 20) + timedelta(seconds=chance.randint(0, 6000))
        sign_ins.append(SignIn(service.login, at, False, "wrong password", "", chance.choice(HAMMERING)))
    service.cause("lock-again")
    # A tablet in a drawer that still knows the old password: every few nights it locks its owner out.
    owner = next(somebody for somebody in staff[60:] if not somebody.causes and not somebody.locked)
    owner.cause("lock-again")
    for days in (9, 6, 2):
        for number in range(10):
            at = _day(days, 23) + timedelta(minutes=2 * number)
            sign_ins.append(SignIn(owner.login, at, False, "wrong password", "", "tablet-3.gvr.example"))
    for account in enabled:
        if account.lock_cause == "Service desk":
            continue
        end = account.locked_since or AT - timedelta(minutes=chance.randint(30, 9000))
        desk = f"desk-{chance.randint(41, 90)}.{account.unit.lower().replace(' ', '-')}.gvr.example"
        for number in range(account.failed):
            at = end - timedelta(minutes=account.failed - number)
            sign_ins.append(SignIn(account.login, at, False, "wrong password", "", desk))
    return sign_ins
