"""Password policies of a directory: the one in force for an account, and what it asks.

Three families of attributes are known: those of the password policy overlay (`pwd…`), those beside
nsAccountLock (`password…`), and those of domains with userAccountControl (`maxPwdAge`, or
`msDS-…` in a policy object of its own).
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from keymallet.sources.directory.entries import Entry, interval, normal_dn

NOT_KNOWN = object()
"""Marks a fact that stands in the directory but cannot be told for want of the policy."""


@dataclass(frozen=True)
class Policy:
    """What a policy asks. A length of time that is None: none is set.

    `grace` is how often an expired password is still taken; `locks` whether failures lock at all.
    """

    name: str
    max_age: timedelta | None = None
    min_age: timedelta | None = None
    warn_before: timedelta | None = None
    min_length: int | None = None
    history: int | None = None
    locks: bool = False
    lock_after: int | None = None
    lock_for: timedelta | None = None
    count_within: timedelta | None = None
    must_change: bool | None = None
    grace: int = 0
    max_idle: timedelta | None = None

    def row(self, applies_to: list[str]) -> dict[str, Any]:
        """The policy as a row of settings."""
        return {
            "setting": self.name,
            "applies-to": applies_to,
            "min-length": self.min_length,
            "history": self.history,
            "max-age": self.max_age,
            "min-age": self.min_age,
            "warn-before": self.warn_before,
            "lock-after": self.lock_after if self.locks else None,
            "lock-for": self.lock_for if self.locks else None,
            "count-within": self.count_within if self.locks else None,
            "first-use-change": self.must_change,
        }


SETTING_FACTS = tuple(Policy("").row([]))


_DOMAIN = (
    "maxpwdage minpwdage minpwdlength pwdhistorylength lockoutthreshold lockoutduration"
    " lockoutobservationwindow"
).split()
_OWN_OBJECT = (
    "maximumpasswordage minimumpasswordage minimumpasswordlength passwordhistorylength lockoutthreshold"
    " lockoutduration lockoutobservationwindow"
).split()
POLICY_ATTRIBUTES = [
    *(
        "pwdMaxAge pwdMinAge pwdExpireWarning pwdMinLength pwdInHistory pwdLockout pwdMaxFailure"
        " pwdLockoutDuration pwdFailureCountInterval pwdMustChange pwdGraceAuthnLimit pwdMaxIdle"
        " passwordMaxAge passwordExp passwordMinAge passwordWarning passwordMinLength passwordInHistory"
        " passwordLockout passwordMaxFailure passwordUnlock passwordLockoutDuration"
        " passwordResetFailureCount passwordMustChange passwordGraceLimit accountInactivityLimit"
    ).split(),
    *_DOMAIN,
    *(f"msDS-{name}" for name in _OWN_OBJECT),
]
"""What a policy's entry is asked for, by name."""


class Policies:
    """The policies found among the entries, and which of them holds for an account."""

    def __init__(self, entries: list[Entry], default: str) -> None:
        self.found: dict[str, Policy] = {}
        self.domain: Policy | None = None
        self._idle_limits = {
            entry.key: entry.span("accountinactivitylimit")
            for entry in entries
            if entry.has("accountinactivitylimit")
        }
        for entry in entries:
            policy = _read(entry)
            if policy is not None:
                self.found.setdefault(entry.key, policy)
            if policy is not None and entry.has("maxpwdage", "lockoutthreshold"):
                self.domain = self.domain or policy
        self.default = self.found.get(normal_dn(default)) if default else None
        self.default_is_missing = bool(default) and self.default is None

    def of(self, account: Entry) -> Policy | None:
        """The policy in force; None if it is not among the entries that could be read."""
        named = account.text("pwdpolicysubentry", "msds-resultantpso")
        if named is not None:
            return self.found.get(normal_dn(named))
        return self.default or self.domain

    def idle_limit(self, account: Entry) -> timedelta | object | None:
        """How long the account may go unused, by the account policy it names.

        None where it names none; NOT_KNOWN where that could not be read.
        """
        named = account.text("acctpolicysubentry")
        return None if named is None else self._idle_limits.get(normal_dn(named), NOT_KNOWN)


def _read(entry: Entry) -> Policy | None:
    classes = entry.classes
    if "pwdpolicy" in classes:
        return Policy(
            name=entry.dn,
            max_age=entry.span("pwdmaxage"),
            min_age=entry.span("pwdminage"),
            warn_before=entry.span("pwdexpirewarning"),
            min_length=entry.number("pwdminlength"),
            history=entry.number("pwdinhistory"),
            locks=entry.flag("pwdlockout") is True,
            lock_after=entry.number("pwdmaxfailure") or None,
            lock_for=entry.span("pwdlockoutduration"),
            count_within=entry.span("pwdfailurecountinterval"),
            must_change=entry.flag("pwdmustchange"),
            grace=entry.number("pwdgraceauthnlimit") or 0,
            max_idle=entry.span("pwdmaxidle"),
        )
    if "passwordpolicy" in classes:
        forever = entry.flag("passwordunlock") is False
        return Policy(
            name=entry.dn,
            max_age=entry.span("passwordmaxage") if entry.flag("passwordexp") is not False else None,
            min_age=entry.span("passwordminage"),
            warn_before=entry.span("passwordwarning"),
            min_length=entry.number("passwordminlength"),
            history=entry.number("passwordinhistory"),
            locks=entry.flag("passwordlockout") is True,
            lock_after=entry.number("passwordmaxfailure") or None,
            lock_for=None if forever else entry.span("passwordlockoutduration"),
            count_within=entry.span("passwordresetfailurecount"),
            must_change=entry.flag("passwordmustchange"),
            grace=entry.number("passwordgracelimit") or 0,
        )
    if entry.has("msds-lockoutthreshold", "msds-maximumpasswordage"):
        return _of_domain(entry, *(f"msds-{name}" for name in _OWN_OBJECT))
    if entry.has("maxpwdage", "lockoutthreshold"):
        return _of_domain(entry, *_DOMAIN)
    return None


def _of_domain(entry: Entry, *names: str) -> Policy:
    oldest, youngest, length, history, threshold, duration, window = names
    after = entry.number(threshold) or None
    return Policy(
        name=entry.dn,
        max_age=interval(entry.number(oldest)),
        min_age=interval(entry.number(youngest)),
        min_length=entry.number(length),
        history=entry.number(history),
        locks=after is not None,
        lock_after=after,
        lock_for=interval(entry.number(duration)),
        count_within=interval(entry.number(window)),
    )
