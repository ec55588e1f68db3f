"""Password policies of a directory: the one in force for an account, and what it asks.

Three families of attributes are known: those of the password policy overlay (`pwd…`), those beside
nsAccountLock (`password…`, which some servers answer under the overlay's names), and those of domains with
userAccountControl (`maxPwdAge`, or `msDS-…` in a policy object of its own).
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

    `grace` is how often an expired password is still taken, `grace_for` how long at most. `locks` says if
    failures lock at all, `unlocks` whether such a lock ends by itself, `expires` whether passwords expire.
    """

    name: str
    max_age: timedelta | None = None
    min_age: timedelta | None = None
    warn_before: timedelta | None = None
    min_length: int | None = None
    history: int | None = None
    locks: bool = False
    unlocks: bool = True
    expires: bool = True
    lock_after: int | None = None
    lock_for: timedelta | None = None
    count_within: timedelta | None = None
    must_change: bool | None = None
    grace: int = 0
    grace_for: timedelta | None = None
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
SERVER_CONFIGURATION = ("cn=config", "cn=Account Policy Plugin,cn=plugins,cn=config")
"""Where servers with nsAccountLock keep the policy for everybody, and how they treat idle accounts."""
_PLUGIN = "cn=account policy plugin,cn=plugins,cn=config"
_USUAL_FAILURES = 3
"""Of servers with nsAccountLock, where the policy does not say."""
_PAIRED = {
    "passwordmaxage": "pwdmaxage",
    "passwordminage": "pwdminage",
    "passwordwarning": "pwdexpirewarning",
    "passwordminlength": "pwdminlength",
    "passwordinhistory": "pwdinhistory",
    "passwordlockout": "pwdlockout",
    "passwordmaxfailure": "pwdmaxfailure",
    "passwordlockoutduration": "pwdlockoutduration",
    "passwordresetfailurecount": "pwdfailurecountinterval",
    "passwordmustchange": "pwdmustchange",
    "passwordgracelimit": "pwdgraceauthnlimit",
}
"""Attributes beside nsAccountLock; a server can answer under the overlay's name, whichever was asked for."""
POLICY_ATTRIBUTES = [
    *(
        "pwdMaxAge pwdMinAge pwdExpireWarning pwdMinLength pwdInHistory pwdLockout pwdMaxFailure"
        " pwdLockoutDuration pwdFailureCountInterval pwdMustChange pwdGraceAuthnLimit"
        " pwdMaxIdle pwdGraceExpiry pwdCheckQuality passwordCheckSyntax passwordHistory"
        " passwordMaxAge passwordExp passwordMinAge passwordWarning passwordMinLength passwordInHistory"
        " passwordLockout passwordMaxFailure passwordUnlock passwordLockoutDuration"
        " passwordResetFailureCount passwordMustChange passwordGraceLimit accountInactivityLimit"
        " altStateAttrName nsslapd-pluginEnabled"
    ).split(),
    *_DOMAIN,
    *(f"msDS-{name}" for name in _OWN_OBJECT),
]
"""What a policy's entry is asked for, by name."""


class Policies:
    """The policies found among the entries, and which of them holds for an account.

    `counts_from_creation` says whether an account that never signed in is idle since it was made; NOT_KNOWN
    where the server's own configuration was not read. `knows_idleness` is False where it is switched off.
    """

    def __init__(self, entries: list[Entry], default: str) -> None:
        self.found: dict[str, Policy] = {}
        self._domains: dict[str, Policy] = {}
        self._server: Policy | None = None
        self.knows_idleness, self.counts_from_creation = _idleness(entries)
        self._idle_limits = {
            entry.key: entry.span("accountinactivitylimit")
            for entry in entries
            if entry.has("accountinactivitylimit")
        }
        for entry in entries:
            policy = _read(entry)
            if policy is not None:
                self.found.setdefault(entry.key, policy)
            if policy is not None and entry.has("maxpwdage"):
                self._domains[entry.key] = policy
            if policy is not None and "nsslapdconfig" in entry.classes:
                self._server = policy
        self.default = self.found.get(normal_dn(default)) if default else self._server
        self.default_is_missing = bool(default) and self.default is None

    def of(self, account: Entry) -> Policy | None:
        """The policy in force; None if it is not among the entries that could be read."""
        named = account.text("pwdpolicysubentry", "msds-resultantpso")
        if named is not None:
            return self.found.get(normal_dn(named))
        return self.default or self._of_domain(account.key)

    def is_for_all(self, policy: Policy) -> bool:
        """Whether it holds for everybody who has none of their own."""
        return policy is self.default or any(policy is domain for domain in self._domains.values())

    def _of_domain(self, key: str) -> Policy | None:
        """The policy of the domain that an entry stands in: the nearest one above it."""
        while key:
            if key in self._domains:
                return self._domains[key]
            key = key.partition(",")[2]
        return None

    def idle_limit(self, account: Entry) -> timedelta | object | None:
        """How long the account may go unused, by the account policy it names.

        None where it names none; NOT_KNOWN where that could not be read.
        """
        named = account.text("acctpolicysubentry")
        if named is None or not self.knows_idleness:
            return None
        return self._idle_limits.get(normal_dn(named), NOT_KNOWN)


def _idleness(entries: list[Entry]) -> tuple[bool, bool | object]:
    """What a server's account policy plugin is set to, where its configuration was read."""
    for entry in entries:
        if entry.key == _PLUGIN and entry.flag("nsslapd-pluginenabled") is False:
            return False, False
    for entry in entries:
        if entry.key == f"cn=config,{_PLUGIN}":
            # "1.1" stands for no attribute at all.
            return True, (entry.text("altstateattrname") or "createTimestamp").lower() == "createtimestamp"
    return True, NOT_KNOWN


def _read(entry: Entry) -> Policy | None:
    classes = entry.classes
    if "builtindomain" in classes:
        # It carries the domain's attributes, and is nobody's policy.
        return None
    if "pwdpolicy" in classes:
        return Policy(
            name=entry.dn,
            max_age=entry.span("pwdmaxage"),
            min_age=entry.span("pwdminage"),
            warn_before=entry.span("pwdexpirewarning"),
            # Only a policy that checks the quality of passwords looks at their length.
            min_length=entry.number("pwdminlength") if entry.number("pwdcheckquality") else None,
            history=entry.number("pwdinhistory"),
            locks=entry.flag("pwdlockout") is True,
            lock_after=entry.number("pwdmaxfailure") or None,
            lock_for=entry.span("pwdlockoutduration"),
            count_within=entry.span("pwdfailurecountinterval"),
            must_change=entry.flag("pwdmustchange"),
            grace=entry.number("pwdgraceauthnlimit") or 0,
            grace_for=entry.span("pwdgraceexpiry"),
            max_idle=entry.span("pwdmaxidle"),
        )
    if "passwordpolicy" in classes or (
        "nsslapdconfig" in classes and entry.has("passwordlockout", "pwdlockout")
    ):
        return _beside_lock(entry)
    if entry.has("msds-lockoutthreshold", "msds-maximumpasswordage"):
        return _of_domain(entry, *(f"msds-{name}" for name in _OWN_OBJECT))
    if entry.has("maxpwdage"):
        return _of_domain(entry, *_DOMAIN)
    return None


def _beside_lock(entry: Entry) -> Policy:
    named = {name: name if entry.has(name) else other for name, other in _PAIRED.items()}
    unlocks = entry.flag("passwordunlock") is not False
    expires = entry.flag("passwordexp") is True
    return Policy(
        name=entry.dn,
        max_age=entry.span(named["passwordmaxage"]) if expires else None,
        min_age=entry.span(named["passwordminage"]),
        warn_before=entry.span(named["passwordwarning"]),
        min_length=entry.number(named["passwordminlength"]) if entry.flag("passwordchecksyntax") else None,
        history=entry.number(named["passwordinhistory"]) if entry.flag("passwordhistory") else None,
        locks=entry.flag(named["passwordlockout"]) is True,
        unlocks=unlocks,
        expires=expires,
        lock_after=entry.number(named["passwordmaxfailure"]) or _USUAL_FAILURES,
        lock_for=entry.span(named["passwordlockoutduration"]) if unlocks else None,
        count_within=entry.span(named["passwordresetfailurecount"]),
        must_change=entry.flag(named["passwordmustchange"]) is True,
        grace=entry.number(named["passwordgracelimit"]) or 0,
    )


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
