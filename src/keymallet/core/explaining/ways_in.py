"""The ways into one account: each with whether it is open, until when, and what bars it.

It says in words, way by way, what `usable` says in one: an account is usable exactly if one of its
ways in is open (a test holds the two together).
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from keymallet.core.facts.evidence import NOTHING_KNOWN

Moment = Callable[[datetime], str]

_OF_ITSELF = ("passkey", "hardware-key", "smartcard")
_SSH = ("ssh-key", "ssh-certificate")


@dataclass(frozen=True)
class Facts:
    """One row of facts, what its source supplies of them, and which of them could not be read."""

    row: dict[str, Any]
    supplied: Collection[str]
    unread: Collection[str] = ()

    def __getitem__(self, name: str) -> Any:
        """The fact; None if it is unknown or there is none."""
        return self.row.get(name)

    def is_none(self, name: str) -> bool:
        """Whether it is known that there is no such fact."""
        unread = name in self.unread or NOTHING_KNOWN in self.unread
        return self[name] is None and name in self.supplied and not unread


@dataclass(frozen=True)
class WayIn:
    """One way in. `is_open` is None if it cannot be told, for want of the facts in `missing`.

    `barred` says what stops it now; `until` when an open one closes by itself, and `by` what;
    `notes` what else to know.
    """

    what: str
    is_open: bool | None
    barred: tuple[str, ...] = ()
    missing: tuple[str, ...] = ()
    until: datetime | None = None
    by: str = ""
    notes: tuple[str, ...] = ()


@dataclass(frozen=True)
class _Condition:
    """Something that has to hold: what bars the way if it does not, which fact is missing if unknown."""

    holds: bool | None
    barred: str
    missing: str


def ways_in(
    account: Facts, keys: list[Facts] | None, factors: list[Facts] | None, at: datetime, moment: Moment
) -> list[WayIn]:
    """Every way into an account at the instant `at`, the open ones first.

    `account` holds facts as they are judged (derived ones worked out); `keys` and `factors` are None
    where the source supplies none. `moment` writes instants.
    """
    whole = _of_account(account, at, moment)
    ways = [*_by_password(account, whole, at, moment)]
    lock = _lock(account, at, moment)
    stops_keys = [] if account["lock-stops"] == "password" else [lock]
    rows_without = _rows(keys, "key")
    for key in rows_without:
        ways.append(_by_key(key, [*whole, *stops_keys], account, at, moment))
        if account["remote-together"] and key["kind"] in _SSH:
            ways.append(_by_both(key, [*whole, *stops_keys], account, at, moment))
    in_hardware = any(str(key["algorithm"]).endswith("-sk") for key in rows_without)
    for factor in _rows(factors, "factor"):
        of_ssh = in_hardware and factor["amr"] == "hwk"
        if (factor["kind"] is None or factor["kind"] in _OF_ITSELF) and not of_ssh:
            ways.append(_by_factor(factor, [*whole, *stops_keys]))
    order = {True: 0, None: 1, False: 2}
    return sorted(ways, key=lambda way: order[way.is_open])


def _rows(rows: list[Facts] | None, noun: str) -> list[Facts]:
    """The rows; where none are supplied, one of which nothing is known."""
    return [Facts({"unsupplied": noun}, ())] if rows is None else rows


def _of_account(account: Facts, at: datetime, moment: Moment) -> list[_Condition]:
    """What bars every way alike."""
    starts, ends, lapses = account["starts"], account["ends"], account["password-lapses"]
    return [
        _Condition(account["enabled"], "the account is switched off", "enabled"),
        _Condition(not (starts and starts > at), f"it starts only {_said(starts, moment)}", "starts"),
        _not_over(account, "ends", at, f"the account ended {_said(ends, moment)}"),
        _Condition(not (lapses and lapses <= at), _lapse_in_words(lapses, moment), "password-lapses"),
    ]


def _by_password(account: Facts, whole: list[_Condition], at: datetime, moment: Moment) -> Iterable[WayIn]:
    exists = _Condition(account["has-password"], "there is none", "has-password")
    own = [
        _Condition(account["password-locked"] is not True, "the password is barred", "password-locked"),
        _lock(account, at, moment),
    ]
    if account["has-password"] is False:
        yield _way("password", [exists])
        return
    notes = _password_notes(account, at, moment)
    until = _closing(account, at)
    conditions = [*whole, exists, *own]
    if account["remote-password"] is None:
        yield _way("password", conditions, until, notes)
        return
    after_key = "the system takes it only together with a key"
    refused = after_key if account["remote-together"] else "the system takes no password there"
    taken = _Condition(account["remote-password"], refused, "remote-password")
    yield _way("password at the console", conditions, until, notes)
    yield _way("password over the network", [*conditions, taken], until, notes)


def _password_notes(account: Facts, at: datetime, moment: Moment) -> tuple[str, ...]:
    notes = []
    expires = account["password-expires"]
    if account["password-empty"]:
        notes.append("the password is empty: anybody gets in")
    if account["password-must-change"]:
        notes.append("a new password has to be set at the next sign-in")
    elif expires is not None and expires <= at:
        notes.append(f"expired {moment(expires)}: a new password has to be set at the next sign-in")
    elif expires is not None:
        notes.append(f"a new password has to be set from {moment(expires)} on")
    return tuple(notes + _session_notes(account))


def _session_notes(account: Facts) -> list[str]:
    return ["its shell ends a session at once"] if account["interactive"] is False else []


def _by_both(key: Facts, whole: list[_Condition], account: Facts, at: datetime, moment: Moment) -> WayIn:
    """A key and the password, one after the other, where the system asks for both."""
    conditions = [
        *_of_key(key, whole, at, moment),
        _Condition(account["has-password"], "there is no password", "has-password"),
        _Condition(account["password-locked"] is not True, "the password is barred", "password-locked"),
        _lock(account, at, moment),
    ]
    notes = (*_scope_and_label(key), *_password_notes(account, at, moment))
    until = _closing(account, at, {"the key ends": key["expires"]})
    return _way(f"{_named(key)} and the password, together", conditions, until, notes)


def _by_key(key: Facts, whole: list[_Condition], account: Facts, at: datetime, moment: Moment) -> WayIn:
    conditions = _of_key(key, whole, at, moment)
    if key["kind"] in _SSH:
        together = "the system takes it only together with the password"
        refused = together if account["remote-together"] else "the system takes no key from it"
        conditions.append(_Condition(account["remote-key"] is not False, refused, "remote-key"))
    notes = _scope_and_label(key)
    if key["kind"] in _SSH:
        notes += _session_notes(account)
    until = _closing(account, at, {"the key ends": key["expires"]})
    return _way(_named(key) or "a key", conditions, until, tuple(notes))


def _named(key: Facts) -> str:
    return " ".join(str(key[part]) for part in ("kind", "key", "algorithm") if key[part] is not None)


def _scope_and_label(key: Facts) -> list[str]:
    return [str(key[part]) for part in ("scope", "label") if key[part] is not None]


def _of_key(key: Facts, whole: list[_Condition], at: datetime, moment: Moment) -> list[_Condition]:
    """What has to hold of a key, whatever it is shown with."""
    starts, expires = key["starts"], key["expires"]
    conditions = [
        *whole,
        _Condition(
            None if key["state"] is None else key["state"] == "active",
            f"the key is {key['state']}",
            "key" if key["unsupplied"] else "key.state",
        ),
        _Condition(not (starts and starts > at), f"it works only from {_said(starts, moment)} on", "starts"),
    ]
    if not key["unsupplied"]:
        conditions.append(_not_over(key, "expires", at, f"it ended {_said(expires, moment)}"))
    return conditions


def _by_factor(factor: Facts, whole: list[_Condition]) -> WayIn:
    active = None if factor["state"] is None else factor["state"] == "active"
    is_way = None if factor["kind"] is None else True
    missing = "factor" if factor["unsupplied"] else "factor.state"
    conditions = [
        *whole,
        _Condition(is_way, "", "factor" if factor["unsupplied"] else "factor.kind"),
        _Condition(active, f"the factor is {factor['state']}", missing),
    ]
    notes = (str(factor["label"]),) if factor["label"] else ()
    return _way(str(factor["kind"] or "a factor of its own"), conditions, notes=notes)


def _way(
    what: str,
    conditions: list[_Condition],
    closing: tuple[datetime | None, str] = (None, ""),
    notes: tuple[str, ...] = (),
) -> WayIn:
    """Kleene's `and` over the conditions."""
    barred = tuple(dict.fromkeys(condition.barred for condition in conditions if condition.holds is False))
    missing = tuple(dict.fromkeys(condition.missing for condition in conditions if condition.holds is None))
    if barred:
        return WayIn(what, False, barred)
    until, by = (None, "") if missing else closing
    return WayIn(what, None if missing else True, (), missing, until, by, notes)


def _closing(
    account: Facts, at: datetime, also: dict[str, datetime | None] | None = None
) -> tuple[datetime | None, str]:
    """The first instant at which a way closes by itself, and what closes it then."""
    ends = {
        "the account ends": account["ends"],
        "it is barred unless a new password is set": account["password-lapses"],
        **(also or {}),
    }
    ahead = [(instant, by) for by, instant in ends.items() if instant is not None and instant > at]
    return min(ahead, default=(None, ""))


def _not_over(facts: Facts, name: str, at: datetime, barred: str) -> _Condition:
    """Has no end, or one still ahead."""
    if facts[name] is not None:
        return _Condition(facts[name] > at, barred, name)
    return _Condition(True if facts.is_none(name) else None, barred, name)


def _lapse_in_words(lapses: datetime | None, moment: Moment) -> str:
    return f"barred since {_said(lapses, moment)}: no new password was set in time"


def _lock(account: Facts, at: datetime, moment: Moment) -> _Condition:
    """Not locked. An account that lapsed is locked by just that: it is said once."""
    lapses = account["password-lapses"]
    lapsed = lapses is not None and lapses <= at
    words = _lapse_in_words(lapses, moment) if lapsed else _lock_in_words(account, at, moment)
    return _Condition(_not(account["locked"]), words, "locked")


def _lock_in_words(account: Facts, at: datetime, moment: Moment) -> str:
    causes = {
        "failed-attempts": "locked after failed sign-ins",
        "administrator": "locked by an administrator",
        "inactivity": "locked for inactivity",
    }
    words = causes.get(account["lock-cause"], "locked")
    since = account["locked-since"]
    words += f" since {moment(since)}" if since is not None else ""
    until = account["locked-until"]
    if until is not None and until > at:
        return f"{words}, until {moment(until)}"
    return f"{words}, until somebody unlocks it"


def _said(instant: datetime | None, moment: Moment) -> str:
    return moment(instant) if instant is not None else ""


def _not(value: bool | None) -> bool | None:
    return None if value is None else not value
