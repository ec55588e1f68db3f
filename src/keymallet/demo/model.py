"""The railway as it is made: everything its systems hold, before any of it is written to files."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from keymallet.demo.accounts import Account
from keymallet.demo.cloud import CloudUser, cloud_users
from keymallet.demo.directory import railway_directory
from keymallet.demo.gates import Gate, plant_devices, plant_gates
from keymallet.demo.hosts import Host, ticketing_hosts
from keymallet.demo.locks import plant_locks
from keymallet.demo.openings import Opening, of_opening, plant_openings
from keymallet.demo.passes import plant_ends, plant_passes
from keymallet.demo.passwords import plant_passwords
from keymallet.demo.people import Person, organisation
from keymallet.demo.sign_ins import SignIn, plant_sign_ins

Finding = tuple[str, str, str]
"""A rule, an account (or what else falls short) and the subject of it, as findings name them."""
_OF_REGISTER = (
    ("exemption-has-end", "old-till"),
    ("exemption-reviewed", "old-till"),
    ("exemption-approved-by-another", "old-till"),
    ("exemption-names-somebody", "old-till"),
    ("exemption-needed", "old-till"),
    ("exemption-needed", "back-from-leave"),
    ("exemption-over", "guests-autumn"),
    ("exemption-reason", "guests-autumn"),
    ("exemption-no-broader", "counter-tills"),
)
"""The findings that entries of the register have to cause."""


@dataclass
class Model:
    """What there is, and in each part the findings that it has to cause."""

    accounts: list[Account]
    staff: list[Person]
    users: list[CloudUser]
    gates: list[Gate]
    openings: list[Opening]
    sign_ins: list[SignIn]
    hosts: list[Host]

    def account(self, login: str) -> Account:
        """The account of the directory of that login."""
        return next(account for account in self.accounts if account.login == login)

    def person(self, number: str) -> Person | None:
        """Whoever has that number on the staff list."""
        return next((person for person in self.staff if person.number == number), None)

    def planted(self) -> Iterator[tuple[Finding, Account | CloudUser | Host | Person | None]]:
        """Each finding that has to be, and what it was planted in."""
        for account in self.accounts:
            for rule, subject in account.causes:
                yield (rule, f"directory/{account.login}", subject), account
        for host in self.hosts:
            for rule, name, subject in host.causes:
                yield (rule, f"ticketing/{host.name}/{name}".rstrip("/"), subject), host
        for person in self.staff:
            for rule, subject in person.causes:
                yield (rule, "staff", subject), person
        for user in self.users:
            for rule, subject in user.causes:
                yield (rule, f"cloud/{user.login}", subject), user
        for gate in self.gates:
            for rule, subject in gate.causes:
                yield (rule, "directory", subject), None
        for rule, entry in _OF_REGISTER:
            yield (rule, "register", entry), None
        for what in ("lockout-window", "session"):
            yield (f"setting-{what}", "directory", "Emergency"), None
        yield ("emergency-accounts", "", ""), None  # two, where three are asked for
        yield ("user-administrators", "", ""), None


def build() -> Model:
    """The railway at the instant the demo is set at, every fault planted."""
    railway = railway_directory()
    staff = organisation(railway)
    accounts = railway.accounts
    users = cloud_users(accounts)
    gates = plant_gates(accounts)
    plant_devices(accounts)
    plant_passwords(accounts)
    plant_passes(accounts)
    plant_ends(accounts)
    openings = plant_openings(accounts)
    of_opening(accounts, openings)
    plant_locks(accounts)
    sign_ins = plant_sign_ins(accounts, openings)
    people = [
        (account.login, account.name)
        for account in accounts
        if account.account_type == "Staff" and account.enabled
    ]
    hosts = ticketing_hosts(people[100:124], people[124])
    return Model(accounts, staff, users, gates, openings, sign_ins, hosts)
