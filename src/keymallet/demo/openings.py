"""Privilege that the railway's administrators open for a while, and what is planted among the openings."""

from __future__ import annotations

import random
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import datetime, timedelta

from keymallet.demo.accounts import AT, Account, Role

MAIL, POINTS = "Mail administrator", "Interlocking administrator"
_WORK = (
    "Move the mailbox of {} to the new unit",
    "Restore the calendar of {} after the failed import",
    "Renew the signing certificate for {}",
    "Set up the distribution list of {}",
    "Look into bounced messages from {}",
    "Replace the relay that serves {}",
)
_WHERE = (
    "station Enz", "the workshop at Karwald", "signal box Firnegg", "the ticket hall", "track section 12",
    "the control centre east", "the depot at Moosach", "train crew Lärchtal", "the fare office", "line 4",
)  # fmt: skip


@dataclass
class Opening:
    """A line of openings.csv, and the rules it has to break."""

    login: str
    number: str
    role: str
    asked: datetime
    approver: str
    reason: str
    starts: datetime
    ends: datetime
    closed: datetime | None
    proof: str
    outcome: str = "Opened"
    ticket: str = ""
    causes: list[str] = field(default_factory=list)

    @property
    def subject(self) -> str:
        """What findings call it."""
        return f"{self.number} {self.role}"


class Desk:
    """Hands out numbers, approvers and reasons that are nobody else's."""

    def __init__(self, administrators: list[Account]) -> None:
        self.random = random.Random(20261124)
        self.administrators = administrators
        self.openings: list[Opening] = []
        reasons = [work.format(place) for place in _WHERE for work in _WORK]
        self.random.shuffle(reasons)
        self.reasons = iter(reasons)

    def open(self, account: Account, starts: datetime, hours: float, **more: object) -> Opening:
        """An opening in good order, but for what `more` says."""
        others = [other for other in self.administrators if other.staff_no != account.staff_no]
        ends = starts + timedelta(hours=hours)
        second = account.factors[-1].method
        opening = Opening(
            login=account.login,
            number=f"OP-{len(self.openings) + 1:04d}",
            role=MAIL,
            asked=starts - timedelta(minutes=self.random.randint(5, 50)),
            approver=self.random.choice(others).login,
            reason=next(self.reasons),
            starts=starts,
            ends=ends,
            closed=ends - timedelta(minutes=self.random.randint(0, 40)),
            proof=second if second in ("Passkey", "Hardware key", "Code app") else "Code app",
            ticket=f"GVR-{4100 + len(self.openings)}",
        )
        for name, value in more.items():
            setattr(opening, name, value)
        self.openings.append(opening)
        return opening


def plant_openings(accounts: list[Account]) -> list[Opening]:
    """The openings of three months; enters rights that have ended, and what all of it has to cause."""
    administrators = [other for other in accounts if other.job == "Systems administrator" and other.roles]
    desk = Desk(administrators)
    regular, seldom = administrators[:9], administrators[9:]
    for account in regular[6:]:
        # Nothing stands for these: they work only while something is open.
        account.roles = [role for role in account.roles if role.held != "Always" or not role.privileged]
    for account in seldom:
        account.cause("right-used", f"{MAIL} group admins-mail")
    for account, start in _shifts(desk, regular):
        desk.open(account, start, desk.random.choice([1, 1.5, 2, 3, 4]))
    for outcome in ("Refused", "Lapsed", "Waiting"):
        desk.open(regular[2], _day(2, 7), 2, outcome=outcome, closed=None, approver="")
    desk.open(regular[5], AT - timedelta(minutes=30), 4.5, closed=None)
    _plant_faults(desk, regular, accounts)
    desk.random.shuffle(desk.openings)
    return desk.openings


def _day(days: int, hour: float) -> datetime:
    return AT.replace(hour=0) - timedelta(days=days) + timedelta(hours=hour)


def _shifts(desk: Desk, regular: list[Account]) -> Iterator[tuple[Account, datetime]]:
    """Four times in three months for each, at hours that touch nothing else of theirs."""
    for account in regular:
        for week in range(4):
            yield account, _day(10 + 20 * week + desk.random.randint(0, 8), desk.random.randint(6, 11))


def _plant_faults(desk: Desk, regular: list[Account], accounts: list[Account]) -> None:
    def planted(opening: Opening, *rules: str) -> None:
        opening.causes += rules

    daily = next(
        account
        for account in accounts
        if account.staff_no == regular[1].staff_no and account.login != regular[1].login
    )
    planted(desk.open(regular[0], _day(4, 13), 2, approver=regular[0].login), "opening-approved")
    # By the same person's account for daily work: nobody else has looked at it.
    planted(desk.open(regular[1], _day(4, 13), 2, approver=f"{daily.login}@gvr.example"), "opening-approved")
    planted(desk.open(regular[3], _day(6, 4), 14, closed=_day(6, 18)), "opening-short", "opening-stretch")
    # One after the other, day and night: five that are each in order add up to two days.
    for place in range(5):
        start = _day(8, 6) + timedelta(hours=8 * place)
        closed = start + timedelta(hours=8)
        rules = ["opening-stretch"] + ["opening-hours"] * (8 * (place + 1) > 30)
        planted(desk.open(regular[4], start, 8, closed=closed), *rules)
    planted(desk.open(regular[6], _day(5, 12), 1, reason="urgent"), "opening-explained")
    planted(desk.open(regular[6], _day(3, 12), 1, reason=""), "opening-explained")
    for days in (2, 3, 5):
        copied = "Do the usual work on the mail system"
        planted(desk.open(regular[7], _day(days, 14), 1, reason=copied), "opening-own-words")
    planted(desk.open(regular[8], _day(1, 12), 1, proof=""), "opening-proven")
    planted(desk.open(regular[8], _day(2, 12), 1, closed=_day(2, 15)), "opening-closed")
    # The right to ask ended at the end of October; nobody told the gate.
    former = regular[2]
    former.roles.append(Role(POINTS, True, "group interlocking", "On request", _day(24, 0)))
    planted(desk.open(former, _day(7, 14), 2, role=POINTS), "opening-entitled")


def of_opening(accounts: list[Account], openings: list[Opening]) -> None:
    """Note on each account the findings that its openings have to cause."""
    named = {account.login: account for account in accounts}
    for opening in openings:
        for rule in opening.causes:
            named[opening.login].cause(rule, opening.subject)
