"""The railway as it was a few weeks before: what had not happened yet is taken back, and nothing else."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from keymallet.demo.accounts import AT, Account
from keymallet.demo.cloud import CloudUser
from keymallet.demo.host_files import SignIn as SignInOnHost
from keymallet.demo.hosts import TOOR, Host
from keymallet.demo.model import Model
from keymallet.demo.people import Person
from keymallet.demo.sign_ins import KEPT, SignIn

LAST = 4
"""The week that the demo is set in; the ones before it are 1, 2 and 3."""
_WEEK = timedelta(days=7)
_FORMER_PASSWORD = timedelta(days=28)
_FORMER_USE = datetime(2026, 10, 7, 8, 20, tzinfo=UTC)
"""When the emergency account in the west was used before, as the register explains."""
_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)


def instant_of(week: int) -> datetime:
    """The morning of a week on which the railway's accounts are read and judged."""
    return AT - (LAST - week) * _WEEK


def take_back(model: Model, week: int) -> None:
    """Change the railway of the last week into that of an earlier one."""
    at = instant_of(week)
    if week == LAST:
        return
    model.accounts = [account for account in model.accounts if account.created <= at]
    there = {account.login: account for account in model.accounts}
    model.openings = [opening for opening in model.openings if max(opening.starts, opening.asked) <= at]
    for opening in model.openings:
        if opening.closed and opening.closed > at:
            opening.closed = None
    signed_in = [sign_in for sign_in in model.sign_ins if sign_in.login in there and sign_in.at <= at]
    former = {sign_in.login: sign_in for sign_in in model.sign_ins if sign_in.succeeded}
    model.sign_ins = [sign_in for sign_in in signed_in if sign_in.at > at - KEPT]
    for account in model.accounts:
        _account(account, signed_in, former.get(account.login), model.sign_ins, at)
    model.sign_ins.sort(key=lambda sign_in: (sign_in.at, sign_in.login))
    for person in model.staff:
        _person(person, at)
    model.users = [user for user in model.users if _user(user, there.get(user.login), at)]
    for host in model.hosts:
        _host(host, at)


def kept(sign_ins: list[SignIn]) -> list[SignIn]:
    """Those that the directory still has in the last week."""
    return [sign_in for sign_in in sign_ins if sign_in.at > AT - KEPT]


def _before(instant: datetime | None, at: datetime, step: timedelta = _WEEK) -> datetime | None:
    """The same some whole steps earlier, so that it had happened."""
    while instant and instant > at:
        instant -= step
    return instant


def _account(
    account: Account,
    signed_in: list[SignIn],
    newest: SignIn | None,
    log: list[SignIn],
    at: datetime,
) -> None:
    if account.password_set and account.password_set > at:
        account.password_set = max(account.created, _before(account.password_set, at, _FORMER_PASSWORD) or at)
    if account.last_sign_in and account.last_sign_in > at:
        mine = [sign_in.at for sign_in in signed_in if sign_in.login == account.login and sign_in.succeeded]
        if mine:
            account.last_sign_in = max(mine)
        else:
            account.last_sign_in = (
                _FORMER_USE if account.login == "emergency-1" else _before(account.last_sign_in, at)
            )
            assert account.last_sign_in
            if account.last_sign_in < account.created:
                account.last_sign_in = None
            elif newest:
                log.append(SignIn(**{**vars(newest), "at": account.last_sign_in}))
    if account.locked_since or account.locked_until or account.failed:
        account.locked, account.failed, account.lock_cause = False, 0, ""
        account.locked_since = account.locked_until = None
    account.factors = [factor for factor in account.factors if factor.enrolled <= at]
    for factor in account.factors:
        factor.last_used = _used(factor.last_used, factor.enrolled, at)
    account.keys = [key for key in account.keys if key.issued <= at]
    for key in account.keys:
        key.last_used = _used(key.last_used, key.issued, at)
    held = {key.key for key in account.keys}
    for key in account.keys:
        if key.replaced_by not in held:
            key.replaced_by = ""


def _used(last_used: datetime | None, since: datetime, at: datetime) -> datetime | None:
    earlier = _before(last_used, at)
    return earlier if earlier is None or earlier >= since else None


def _person(person: Person, at: datetime) -> None:
    today = at.date()
    if person.state == "left" and person.leaves and person.leaves >= today:
        person.state = "working"
    if person.joins > today:
        person.state = "to come"


def _user(user: CloudUser, account: Account | None, at: datetime) -> bool:
    """Set when somebody was last in the cloud; whether the user was there at all."""
    if user.last_seen and account is None:
        return False
    last_seen = _before(_EPOCH + timedelta(milliseconds=user.last_seen), at)
    assert last_seen
    user.last_seen = int(last_seen.timestamp() * 1000)
    return True


def _host(host: Host, at: datetime) -> None:
    today = (at - _EPOCH).days
    host.failures = {
        name: kept for name, at_ in host.failures.items() if (kept := [t for t in at_ if t <= at])
    }
    if at < TOOR:
        host.entries = [entry for entry in host.entries if entry.name != "toor"]
    for entry in host.entries:
        while isinstance(entry.last_change, int) and entry.last_change > today:
            entry.last_change -= _FORMER_PASSWORD.days
    for name, sign_in in host.last.items():
        earlier = _before(sign_in.at, at)
        assert earlier
        host.last[name] = SignInOnHost(name, earlier, sign_in.origin)
    # The certificate of the day is made anew every morning; the railway ships none of other days.
    host.certificates = {
        name: file for name, file in host.certificates.items() if file not in host.certificates_of_the_day
    }
