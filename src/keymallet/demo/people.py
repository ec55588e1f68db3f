"""The railway's staff list, held against its accounts: good order, and the faults planted between the two."""

from __future__ import annotations

import json
import random
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import date, timedelta
from typing import Any

from keymallet.demo.accounts import AT, Account, Railway

TODAY = AT.date()
_CONTRACTS = {"Staff": "permanent", "Contractor": "contract", "Guest": "agency"}


@dataclass
class Person:
    """A line of staff.jsonl, and the findings that faults planted in it have to cause."""

    number: str
    name: str
    mail: str
    unit: str
    contract: str
    joins: date
    leaves: date | None = None
    state: str = "working"
    manager: str = ""
    causes: list[tuple[str, str]] = field(default_factory=list)

    def cause(self, rule: str) -> None:
        """Note a finding that this person has to bring about."""
        self.causes.append((rule, f"{self.number} {self.name}"))

    def record(self) -> dict[str, Any]:
        """The person as the staff list's export has them."""
        return {
            "number": self.number,
            "name": self.name,
            "contact": {"mail": self.mail},
            "post": {"unit": self.unit, "reports to": self.manager or None},
            "contract": {
                "kind": self.contract,
                "first day": self.joins.isoformat(),
                "last day": self.leaves.isoformat() if self.leaves else None,
            },
            "state": self.state,
        }


def organisation(railway: Railway) -> list[Person]:
    """The staff list of a railway whose directory is made already; plants what is amiss between the two."""
    chance = random.Random(len(railway.accounts))
    people = [_person(account, chance) for account in railway.accounts if account.staff_no]
    _set_managers(railway.accounts, people)
    of_number = {person.number: person for person in people}
    in_order = _in_order(railway.accounts)
    _plant_comings_and_goings(in_order, of_number, people, chance)
    _plant_differences(in_order, of_number)
    _plant_ties(in_order, of_number, people)
    _part_administrators(railway, of_number)
    return people


def staff_list(people: list[Person]) -> str:
    """The export of the staff list: a JSON object a line."""
    return "".join(f"{json.dumps(person.record(), ensure_ascii=False)}\n" for person in people)


def _person(account: Account, chance: random.Random) -> Person:
    left = not account.enabled
    leaves = (account.last_sign_in or AT).date() + timedelta(days=1) if left else None
    if account.valid_to and not left:
        leaves = account.valid_to.date()
    return Person(
        account.staff_no,
        account.name,
        f"{account.login}@gvr.example",
        account.unit,
        _CONTRACTS[account.account_type],
        account.created.date() - timedelta(days=chance.randrange(0, 20)),
        leaves,
        "left" if left or (leaves and leaves < TODAY) else chance.choice(["working"] * 9 + ["on leave"]),
    )


def _set_managers(accounts: list[Account], people: list[Person]) -> None:
    """The first of a unit leads it, and answers to the first of the offices."""
    heads: dict[str, str] = {}
    for person in people:
        heads.setdefault(person.unit, person.number)
    for person in people:
        head = heads[person.unit] if heads[person.unit] != person.number else heads["Offices"]
        person.manager = head if head != person.number else ""
    for account in accounts:
        gone = account.enabled and account.valid_to and account.valid_to.date() < TODAY
        if gone:
            account.cause("left-still-enabled")
    managers = {person.number: person.manager for person in people}
    for account in accounts:
        account.manager = managers.get(account.staff_no, "")


def _in_order(accounts: list[Account]) -> Iterator[Account]:
    """Staff accounts with nothing planted in them that are on no host, the last made first."""
    staff = [account for account in accounts if account.account_type == "Staff" and account.enabled]
    free = (account for account in staff[150:] if not account.causes and not account.roles)
    return iter(list(free)[20:])


def _plant_comings_and_goings(
    in_order: Iterator[Account], of_number: dict[str, Person], people: list[Person], chance: random.Random
) -> None:
    for _ in range(3):
        account = next(in_order)
        person = of_number[account.staff_no]
        person.state, person.leaves = "left", TODAY - timedelta(days=chance.randrange(4, 30))
        account.cause("left-still-enabled")
    # On the last day: still here.
    of_number[next(in_order).staff_no].leaves = TODAY
    account = next(in_order)
    person = of_number[account.staff_no]
    person.state, person.joins = "to come", TODAY + timedelta(days=12)
    account.cause("not-yet-joined-enabled")
    for name, days in (("Ylva Karwald", 40), ("Tore Enzacher", 200)):
        person = _nobody(people, name, TODAY - timedelta(days=days), "working")
        person.cause("person-without-account")
    _nobody(people, "Runa Kessel", TODAY + timedelta(days=20), "to come")


def _nobody(people: list[Person], name: str, joins: date, state: str) -> Person:
    """Somebody on the staff list without any account."""
    number = str(10_700 + len(people))
    mail = f"{name[0]}.{name.split()[1]}@gvr.example".lower()
    person = Person(number, name, mail, "Stations", "permanent", joins, state=state)
    people.append(person)
    return person


def _plant_differences(in_order: Iterator[Account], of_number: dict[str, Person]) -> None:
    for _ in range(3):
        account = next(in_order)
        account.unit = "Track" if account.unit != "Track" else "Stations"
        account.cause("unit-differs")
    for _ in range(2):
        account = next(in_order)
        account.manager = "10001" if account.manager != "10001" else "10002"
        account.cause("manager-differs")
    for number in ("9001", "9002"):
        account = next(in_order)
        of_number[account.staff_no].cause("person-without-account")
        account.staff_no, account.manager = number, ""
        account.cause("nobodys-account")


def _plant_ties(in_order: Iterator[Account], of_number: dict[str, Person], people: list[Person]) -> None:
    """Accounts without a number: tied by their address; one address is two people's, and is not guessed."""
    for _ in range(5):
        next(in_order).staff_no = ""
    account = next(in_order)
    person = of_number[account.staff_no]
    people.append(Person("10990", f"Dora {account.name.split()[1]}", person.mail, "Track", "contract", TODAY))
    account.staff_no = ""


def _part_administrators(railway: Railway, of_number: dict[str, Person]) -> None:
    """Most administrators have an account of their own for that; the others do both with one."""
    administrators = [account for account in railway.accounts if account.job == "Systems administrator"]
    for account in administrators[:9]:
        daily = railway.daily_account(account)
        daily.manager = account.manager
        of_number[account.staff_no].mail = f"{daily.login}@gvr.example"
    for account in railway.accounts:
        holds = any(role.privileged and role.held == "Always" for role in account.roles)
        if holds and account.account_type == "Staff" and account not in administrators[:9]:
            account.cause("administrator-apart")
