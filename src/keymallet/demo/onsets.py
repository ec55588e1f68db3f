"""Since when each planted fault stands, and since when the facts it rests on were there.

Where the facts were there before, time alone made the finding; where they were not, they made it.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, date, datetime, time, timedelta
from typing import NamedTuple

from keymallet.demo.accounts import AT, CLOCK, Account, Key
from keymallet.demo.cloud import CloudUser
from keymallet.demo.hosts import TOOR, Host
from keymallet.demo.model import Finding, Model
from keymallet.demo.people import Person
from keymallet.demo.sign_ins import named

_EVER = datetime(2020, 1, 1, tzinfo=UTC)
GRACE = timedelta(days=7)
"""How long password-age is pending before it is a breach."""


class Onset(NamedTuple):
    """`since` then it falls short; `known` since then stands what makes it so."""

    since: datetime
    known: datetime

    @property
    def needs_only_time(self) -> bool:
        """Whether it falls short some time after the facts were there."""
        return self.known < self.since


ALWAYS = Onset(_EVER, _EVER)


def onset(finding: Finding, owner: object, model: Model, password_age: timedelta) -> Onset:
    """Of a planted finding; `password_age` is the limit that is in force."""
    rule, _, subject = finding
    if isinstance(owner, Host):
        return _of_host(finding, owner, password_age)
    if isinstance(owner, Person):
        return _from(datetime.combine(owner.joins, time(), CLOCK), timedelta(days=14))
    if isinstance(owner, CloudUser):
        found = next((account for account in model.accounts if account.login == owner.login), None)
        return _left(found, model) if rule == "left-still-enabled" and found else ALWAYS
    if not isinstance(owner, Account):
        return ALWAYS
    if rule == "password-age":
        return _from(owner.password_set or _EVER, password_age)
    if rule == "left-still-enabled":
        return _left(owner, model)
    if rule in _OF_ACCOUNT:
        return _OF_ACCOUNT[rule](owner)
    if rule in _OF_KEY:
        return _OF_KEY[rule](next(key for key in owner.keys if key.key == subject.split()[-1]))
    if rule.startswith("opening-"):
        return _at(next(each.starts for each in model.openings if each.subject == subject))
    mine = [each for each in model.sign_ins if each.login == owner.login]
    if rule in ("work-in-opening", "emergency-sign-ins"):
        return _at(next(each.at for each in mine if each.succeeded and named(each) == subject))
    if rule == "emergency-for-emergencies":
        return _at(sorted(each.at for each in mine if each.succeeded)[2])
    if rule == "lock-again":
        return _at(max(each.at for each in mine if not each.succeeded))
    return ALWAYS


def _at(instant: datetime) -> Onset:
    return Onset(instant, instant)


def _from(known: datetime, lasts: timedelta) -> Onset:
    return Onset(known + lasts, known)


def midnight_after(day: date) -> datetime:
    """The end of a day by the railway's clock."""
    return datetime.combine(day + timedelta(days=1), time(), CLOCK)


def _left(account: Account, model: Model) -> Onset:
    person = model.person(account.staff_no)
    return Onset(midnight_after(person.leaves), _EVER) if person and person.leaves else ALWAYS


def _ended(account: Account) -> Onset:
    assert account.valid_to
    return Onset(midnight_after(account.valid_to.astimezone(CLOCK).date()), _EVER)


_OF_ACCOUNT: dict[str, Callable[[Account], Onset]] = {
    "idle": lambda account: _from(account.last_sign_in or _EVER, timedelta(days=45)),
    "never-used": lambda account: _from(account.created, timedelta(days=30)),
    "password-handed-out": lambda account: _at(account.created),
    "ended-still-enabled": _ended,
    "locked": lambda account: _at(account.locked_since or _EVER),
    "one-api-key": lambda account: _at(max(key.issued for key in account.keys if key.state == "OK")),
}
_OF_KEY: dict[str, Callable[[Key], Onset]] = {
    "api-key-age": lambda key: _from(key.issued, timedelta(days=90)),
    "api-key-unused": lambda key: _from(key.issued, timedelta(days=30)),
    "api-key-idle": lambda key: _from(key.last_used or _EVER, timedelta(days=45)),
    "pass-replaced": lambda key: _at(AT - timedelta(hours=2)),
    **{
        rule: lambda key: _at(key.issued)
        for rule in (
            "api-key-of-disabled",
            "pass-short",
            "pass-good-once",
            "pass-not-for-power",
            "session-short",
            "session-of-disabled",
        )
    },
}


def _of_host(finding: Finding, host: Host, password_age: timedelta) -> Onset:
    rule, account, _ = finding
    name = account.rpartition("/")[2]
    if name == "toor":
        return _at(TOOR)
    if host.failures.get(name):
        return _at(min(host.failures[name]))
    epoch = datetime(1970, 1, 1, tzinfo=UTC)
    if rule == "password-age" and name != host.name:
        return _from(epoch + timedelta(days=int(host.entry(name).last_change)), password_age)
    if rule in ("ended-still-enabled", "key-outlives-account"):
        return Onset(epoch + timedelta(days=int(host.entry(name).expires)), _EVER)
    return ALWAYS
