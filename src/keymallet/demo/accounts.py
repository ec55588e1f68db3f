"""The accounts of the railway's directory, in good order: what they are, and how they are made."""

from __future__ import annotations

import random
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

CLOCK = ZoneInfo("Europe/Zurich")
AT = datetime(2026, 11, 24, 9, 0, tzinfo=UTC)
"""The instant the demo is set at."""

UNITS = ("Stations", "Signalling", "Workshops", "Ticketing", "Track", "Train crew", "Offices")
_JOBS = {
    "Stations": ("Station hand", "Station master"),
    "Signalling": ("Signaller", "Interlocking technician"),
    "Workshops": ("Fitter", "Wagon inspector"),
    "Ticketing": ("Ticket clerk", "Fare planner"),
    "Track": ("Ganger", "Track surveyor"),
    "Train crew": ("Driver", "Conductor"),
    "Offices": ("Clerk", "Planner"),
}
_GIVEN = [
    "Alma",
    "Arno",
    "Berta",
    "Bruno",
    "Cilla",
    "Darius",
    "Edda",
    "Emil",
    "Fenja",
    "Gian",
    "Hedda",
    "Ivo",
    "Jana",
    "Jory",
    "Kai",
    "Lena",
    "Lois",
    "Mara",
    "Nils",
    "Oda",
    "Pia",
    "Quirin",
    "Rena",
    "Sepp",
    "Tilda",
    "Urs",
    "Vera",
    "Wim",
    "Xenia",
    "Yann",
    "Zita",
]
_BEFORE = [
    "Tann",
    "Brunn",
    "Lärch",
    "Firn",
    "Grat",
    "Moos",
    "Kar",
    "Joch",
    "Enz",
    "Arv",
    "Murm",
    "Quell",
    "Schnee",
    "Nebel",
    "Glim",
]
_AFTER = ["leitner", "egger", "hofner", "kogler", "wald", "taler", "bichler", "acher", "stetter", "mairin"]


@dataclass
class Factor:
    """A line of factors.csv."""

    method: str
    enrolled: datetime
    last_used: datetime | None
    state: str = "OK"
    label: str = ""
    device: str = ""


@dataclass
class Key:
    """A line of keys.csv."""

    key: str
    issued: datetime
    last_used: datetime | None
    state: str = "OK"
    scope: str = "timetable:read"
    kind: str = "API key"
    expires: datetime | None = None
    uses_left: int | None = None
    replaced_by: str = ""


@dataclass
class Role:
    """A line of roles.csv."""

    role: str
    privileged: bool
    through: str
    held: str = "Always"
    until: datetime | None = None


@dataclass
class Account:
    """A line of accounts.csv, and the findings that faults planted in it have to cause."""

    login: str
    object_id: str
    name: str
    account_type: str
    unit: str
    job: str
    created: datetime
    password_set: datetime | None
    last_sign_in: datetime | None
    enabled: bool = True
    console: bool = True
    valid_to: datetime | None = None
    never_expires: bool = False
    handed_out: bool = False
    must_change: bool = False
    locked: bool = False
    locked_until: datetime | None = None
    locked_since: datetime | None = None
    lock_cause: str = ""
    failed: int = 0
    staff_no: str = ""
    manager: str = ""
    tags: list[str] = field(default_factory=list)
    groups: list[str] = field(default_factory=list)
    factors: list[Factor] = field(default_factory=list)
    keys: list[Key] = field(default_factory=list)
    roles: list[Role] = field(default_factory=list)
    causes: list[tuple[str, str]] = field(default_factory=list)

    def cause(self, rule: str, subject: str = "") -> None:
        """Note a finding that this account has to bring about."""
        self.causes.append((rule, subject))


class Railway:
    """Makes the accounts, the same ones for the same seed."""

    def __init__(self, seed: int) -> None:
        self.random = random.Random(seed)
        self.logins: set[str] = set()
        self.key_number = 0
        self.accounts: list[Account] = []

    def days_ago(self, least: int, most: int) -> datetime:
        """An instant some days back, at most nine hours earlier in the day than AT."""
        minutes = self.random.randrange(0, 9 * 60)
        return AT - timedelta(days=self.random.randint(least, most), minutes=minutes + 1)

    def staff(self, number: int, account_type: str = "Staff", unit: str = "") -> list[Account]:
        """People in good order."""
        return [self._person(account_type, unit or self.random.choice(UNITS)) for _ in range(number)]

    def _person(self, account_type: str, unit: str) -> Account:
        given = self.random.choice(_GIVEN)
        surname = self.random.choice(_BEFORE) + self.random.choice(_AFTER)
        account = self._account(
            _ascii(f"{given[0]}.{surname}".lower()), f"{given} {surname}", account_type, unit
        )
        account.job = self.random.choice(_JOBS[unit])
        account.staff_no = f"{10_000 + len(self.accounts)}"
        account.groups = ["all-staff", f"unit-{unit.lower().replace(' ', '-')}"]
        account.factors = [
            self._factor("Password"),
            self._factor(self.random.choice(["Code app", "Push", "Passkey"])),
        ]
        if self.random.random() < 0.2:
            account.factors.append(self._factor("Text message"))
        return account

    def _account(self, login: str, name: str, account_type: str, unit: str) -> Account:
        base, number = login, 1
        while login in self.logins:
            number += 1
            login = f"{base}{number}"
        self.logins.add(login)
        account = Account(
            login=login,
            object_id=f"{self.random.getrandbits(64):016x}",
            name=name,
            account_type=account_type,
            unit=unit,
            job="",
            created=self.days_ago(200, 4000),
            password_set=self.days_ago(2, 150),
            last_sign_in=self.days_ago(0, 20),
            failed=self.random.choice([0, 0, 0, 0, 1]),
        )
        self.accounts.append(account)
        return account

    def _factor(self, method: str) -> Factor:
        labels = {"Passkey": "phone", "Hardware key": "blue key", "Text message": "phone", "Push": "phone"}
        return Factor(method, self.days_ago(160, 190), self.days_ago(0, 20), label=labels.get(method, ""))

    def temporary(self, number: int, account_type: str) -> list[Account]:
        """Contractors and guests, with an end ahead."""
        accounts = self.staff(number, account_type)
        for account in accounts:
            account.valid_to = AT + timedelta(days=self.random.randint(20, 200))
            account.tags = ["contractor"] if account_type == "Contractor" else ["visitor"]
            account.groups = ["outside"]
        return accounts

    def services(self, number: int) -> list[Account]:
        """Accounts of machines: no console, a key that is renewed."""
        jobs = [
            "timetable",
            "display",
            "fares",
            "lifts",
            "signals",
            "stock",
            "payroll",
            "weather",
            "points",
            "archive",
        ]
        accounts = []
        for place in range(number):
            name = f"svc-{jobs[place % len(jobs)]}-{place // len(jobs) + 1}"
            account = self._account(name, f"Service {name[4:]}", "Service", self.random.choice(UNITS))
            account.console, account.never_expires = False, True
            account.groups = ["machines"]
            account.keys = [self.key(5, 80)]
            accounts.append(account)
        return accounts

    def key(self, least: int, most: int, *, used: bool = True) -> Key:
        """An API key some days old."""
        self.key_number += 1
        last_used = self.days_ago(0, 4) if used else None
        return Key(f"GVR-K-{self.key_number:04d}", self.days_ago(least, most), last_used)

    def counters(self, number: int) -> list[Account]:
        """Shared accounts of ticket counters."""
        return [
            self._account(f"counter-{place + 1:02d}", f"Ticket counter {place + 1}", "Counter", "Ticketing")
            for place in range(number)
        ]

    def emergency(self, number: int) -> list[Account]:
        """Break-glass accounts, with a hardware key each."""
        accounts = []
        for place in range(number):
            account = self._account(
                f"emergency-{place + 1}", f"Emergency {place + 1}", "Break-glass", "Offices"
            )
            account.factors = [self._factor("Hardware key")]
            account.roles = [Role("Directory owner", True, "group emergency")]
            accounts.append(account)
        return accounts

    def administrators(self, number: int) -> list[Account]:
        """Administrators in good order: passkey or hardware key, roles through groups."""
        accounts = self.staff(number, unit="Offices")
        for account in accounts:
            account.job = "Systems administrator"
            account.factors = [
                self._factor("Password"),
                self._factor(self.random.choice(["Passkey", "Hardware key"])),
            ]
            account.roles = [
                Role("User administrator", True, "group admins-users"),
                Role("Mail administrator", True, "group admins-mail", "On request"),
                Role("Reader", False, "group readers"),
            ]
        return accounts

    def daily_account(self, account: Account) -> Account:
        """An account for an administrator's mail; the other one takes a name that says what it is for."""
        login = account.login
        account.login = f"adm-{login}"
        self.logins.discard(login)
        daily = self._account(login, account.name, "Staff", account.unit)
        daily.job, daily.staff_no = account.job, account.staff_no
        daily.groups = ["all-staff", f"unit-{account.unit.lower()}"]
        daily.factors = [self._factor("Password"), self._factor("Push")]
        return daily

    def leavers(self, number: int) -> list[Account]:
        """People who have gone; their accounts are switched off."""
        accounts = self.staff(number)
        for account in accounts:
            account.enabled = False
            account.last_sign_in = self.days_ago(60, 300)
        return accounts


def _ascii(text: str) -> str:
    for umlaut, letters in (("ä", "ae"), ("ö", "oe"), ("ü", "ue")):
        text = text.replace(umlaut, letters)
    return text
