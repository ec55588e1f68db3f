"""The ways into one account in words: each with whether it is open, until when, and what bars it.

Whether a way is open is judged like any fact; here stands why (a test holds that the two agree).
"""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from keymallet.core.facts.declaration import FACTOR, KEY
from keymallet.core.facts.evidence import NOTHING_KNOWN
from keymallet.core.facts.phrases import read_word

Moment = Callable[[datetime], str]


_BESIDE = {
    False: {
        "key-and-password": "the password",
        "two-keys": "a second key",
        "two-keys-and-password": "a second key and the password",
    },
    True: {"key-and-password": "a key", "two-keys-and-password": "two keys"},
}
"""What has to be shown besides a key (False), or besides the password (True)."""


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
    account: Facts, rows: list[Facts], keys: list[Facts], factors: list[Facts], at: datetime, moment: Moment
) -> list[WayIn]:
    """Every way into an account at the instant `at`, the open ones first.

    `account` holds facts as they are judged (derived ones worked out), `rows` its ways in so; `keys` and
    `factors` tell more of what is shown on them. `moment` writes instants.
    """
    named = {key["key"]: key for key in keys if key["key"] is not None}
    proven = {factor["kind"]: factor for factor in factors if factor["label"]}
    teller = _Teller(account, named, proven, any(row["over"] == "console" for row in rows), at, moment)
    order = {True: 0, None: 1, False: 2}
    return sorted(map(teller.way, rows), key=lambda way: order[way.is_open])


@dataclass(frozen=True)
class _Teller:
    """Tells of the ways into one account."""

    account: Facts
    keys: dict[str, Facts]
    factors: dict[str, Facts]
    has_console: bool
    at: datetime
    moment: Moment

    def way(self, row: Facts) -> WayIn:
        """One way in words."""
        conditions = self._conditions(row)
        barred = tuple(dict.fromkeys(each.barred for each in conditions if each.holds is False))
        missing = tuple(dict.fromkeys(each.missing for each in conditions if each.holds is None))
        what, notes = self._what(row), self._notes(row)
        what += f", proven by {row['proven-by']}" if row["proven-by"] else ""
        if row["open"] is False:
            return WayIn(what, False, barred)
        if row["open"] is None:
            return WayIn(what, None, (), missing, notes=notes)
        until, by = _closing(self.account, self.at, row["expires"])
        return WayIn(what, True, until=until, by=by, notes=notes)

    def _what(self, row: Facts) -> str:
        """What is shown, and over what."""
        if NOTHING_KNOWN in row.unread:
            untold = {KEY.name: "a key", FACTOR.name: "a factor of its own"}
            return next((what for table, what in untold.items() if table in row.unread), "by another system")
        shown = [_named(self.keys[key]) for key in self._keys_of(row)]
        takes = [read_word(each) for each in row["takes"] or ()]
        first = "password" if row["by-password"] and not shown else takes[0] if takes else "a way unknown"
        if shown:
            shown += ["the password"] if row["by-password"] else []
            return " and ".join(shown) + (", together" if len(shown) > 1 else "")
        if takes[1:]:
            return " and ".join(takes)
        if not row["by-password"]:
            return str(row["key"] or first)
        where = {"console": " at the console", "network": " over the network"}[row["over"]]
        return f"{first}{where if self.has_console else ''}"

    def _keys_of(self, row: Facts) -> list[str]:
        return [key for key in str(row["key"]).split(" and ") if key in self.keys] if row["key"] else []

    def _notes(self, row: Facts) -> tuple[str, ...]:
        """What else to know of an open way."""
        notes: list[str] = []
        for key in self._keys_of(row):
            notes += _scope_and_label(self.keys[key])
        if row["by-password"] and row["takes"] is None:
            notes.append("whether it is asked for a second factor is not known")
        if row["by-password"]:
            notes += _password_notes(self.account, self.at, self.moment)
        elif {"software-key", "hardware-key"} & set(row["takes"] or ()) and row["key"]:
            notes += _session_notes(self.account)
        for kind in row["takes"] or ():
            if kind in self.factors and not row["key"]:
                notes.append(str(self.factors[kind]["label"]))
        return tuple(dict.fromkeys(notes))

    def _conditions(self, row: Facts) -> list[_Condition]:
        """All that has to hold."""
        account = self.account
        whole = _of_account(account, self.at, self.moment)
        if row["by-password"] or account["lock-stops"] != "password":
            whole.append(_lock(account, self.at, self.moment))
        if NOTHING_KNOWN in row.unread:
            untold = next((name for name in (KEY.name, FACTOR.name) if name in row.unread), "proven-by")
            return [*whole, _Condition(None, "", untold)]
        starts, state, by_key = row["starts"], row["state"], bool(row["key"])
        noun = "key" if by_key else "factor"
        conditions = [
            *whole,
            _Condition(
                None if state is None else state == "active", f"the {noun} is {state}", f"{noun}.state"
            ),
            _Condition(
                not (starts and starts > self.at),
                f"it works only from {_said(starts, self.moment)} on",
                "starts",
            ),
            _not_over(row, "expires", self.at, f"it ended {_said(row['expires'], self.moment)}"),
        ]
        if row["by-password"]:
            is_barred = account["password-locked"] is True
            conditions += [
                _Condition(account["has-password"], "there is no password", "has-password"),
                _Condition(not is_barred, "the password is barred", "password-locked"),
            ]
        return [*conditions, _Condition(row["taken"], self._refused(row), self._untaken(row))]

    def _refused(self, row: Facts) -> str:
        """What the system says to what it does not take."""
        if row["proven-by"]:
            return f"{row['proven-by']} does not get in that way"
        asked, by_password = self.account["remote-together"] or (), row["by-password"]
        also = [_BESIDE[by_password][word] for word in asked if word in _BESIDE[by_password]]
        if also:
            return f"the system takes it only together with {', or '.join(also)}"
        return "the system takes no password there" if by_password else "the system takes no key from it"

    def _untaken(self, row: Facts) -> str:
        """The fact that is missing where it is not known whether the system takes it."""
        if row["proven-by"]:
            return f"whether {row['proven-by']} gets in that way"
        if row["by-password"]:
            return "remote-password"
        return "remote-key" if row["key"] else "factor.kind"


def _of_account(account: Facts, at: datetime, moment: Moment) -> list[_Condition]:
    """What bars every way alike."""
    starts, ends, lapses = account["starts"], account["ends"], account["password-lapses"]
    return [
        _Condition(account["enabled"], "the account is switched off", "enabled"),
        _Condition(not (starts and starts > at), f"it starts only {_said(starts, moment)}", "starts"),
        _not_over(account, "ends", at, f"the account ended {_said(ends, moment)}"),
        _Condition(not (lapses and lapses <= at), _lapse_in_words(lapses, moment), "password-lapses"),
    ]


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


def _named(key: Facts) -> str:
    parts = (str(key[part]) for part in ("kind", "key", "algorithm") if key[part] is not None)
    return " ".join(map(read_word, parts))


def _scope_and_label(key: Facts) -> list[str]:
    return [str(key[part]) for part in ("scope", "label") if key[part] is not None]


def _closing(account: Facts, at: datetime, key_ends: datetime | None) -> tuple[datetime | None, str]:
    """The first instant at which a way closes by itself, and what closes it then."""
    ends = {
        "the account ends": account["ends"],
        "it is barred unless a new password is set": account["password-lapses"],
        "the key ends": key_ends,
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
