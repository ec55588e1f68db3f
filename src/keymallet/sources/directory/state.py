"""What the attributes of an account say of its password, its locks and its life, family by family.

Each family is read as measured on a real server of its kind: a lock that has run out is no lock though
its attributes remain, a permanent one has no end, a bind moves `modifyTimestamp` and so it tells nothing.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from keymallet.core.facts.reading import NO_SUCH_THING
from keymallet.sources.directory.entries import Entry, filetime, generalized_time
from keymallet.sources.directory.policies import NOT_KNOWN, Policies, Policy

Facts = dict[str, Any]
_DISABLED, _LOCKED, _NEVER_EXPIRES, _SMARTCARD, _EXPIRED = 0x2, 0x10, 0x10000, 0x40000, 0x800000
_NOT_REQUIRED, _READABLE = 0x20, 0x80
_TRUSTED_FOR_DELEGATION = 0x80000
_MACHINES = 0x800 | 0x1000 | 0x2000
_MOST = 2**63 - 1
_EPOCH_TEXT = "19700101000000Z"
_SCHEMES = (
    (r"\{ARGON2\}", "argon2"),
    (r"\{PBKDF2", "pbkdf2"),
    (r"\{CRYPT\}\$y\$", "yescrypt"),
    (r"\{CRYPT\}\$2[abxy]\$", "bcrypt"),
    (r"\{CRYPT\}\$7\$", "scrypt"),
    (r"\{CRYPT\}\$6\$|\{S?SHA512\}", "sha512"),
    (r"\{CRYPT\}\$5\$|\{S?SHA256\}", "sha256"),
    (r"\{CRYPT\}\$1\$|\{S?MD5\}", "md5"),
    (r"\{CRYPT\}[./0-9A-Za-z]{13}$", "des"),
)


@dataclass(frozen=True)
class Family:
    """One family of attributes: which show that it can be seen, what to ask for, what it supplies, how.

    `switches` are the attributes by which an administrator bars an account, or demands a new password, as
    they stand; only those that the policy in force heeds.
    """

    name: str
    witnesses: list[str]
    attributes: str
    supplies: dict[str, str]
    read: Callable[[Entry, Policies, datetime], Facts]
    switches: Callable[[Entry, Policy | None], list[str]]


def _overlay(entry: Entry, policies: Policies, at: datetime) -> Facts:
    """The password policy overlay (draft-behera-ldap-password-policy)."""
    policy = policies.of(entry)
    changed = entry.time("pwdchangedtime")
    failures = entry.times("pwdfailuretime")
    window = policy.count_within if policy else None
    counting = [failure for failure in failures if window is None or at - failure < window]
    facts: Facts = {
        "enabled": True,
        "password-changed": changed,
        "password-must-change": entry.flag("pwdreset") is True
        and not (policy and policy.must_change is False),
        "failed-attempts": len(counting),
        "last-failed": failures[-1] if failures else None,
        # Without any policy the overlay looks at neither.
        "starts": NOT_KNOWN if policy is None and entry.has("pwdstarttime") else entry.time("pwdstarttime"),
        "ends": NOT_KNOWN if policy is None and entry.has("pwdendtime") else entry.time("pwdendtime"),
        "last-sign-in": max(entry.times("pwdlastsuccess") + entry.times("authtimestamp"), default=None),
        **_overlay_age(entry, policy, changed),
        **_overlay_lock(entry, policy),
    }
    limit = policy.max_idle if policy and policy.locks else None
    return facts | _idle_lock(facts, limit, entry.time("pwdlastsuccess") or changed, at)


def _as_it_stands(entry: Entry, name: str) -> str:
    """An attribute and its value; the name alone where it is not there."""
    value = entry.text(name.lower())
    return name if value is None else f"{name}: {value}"


def _overlay_switches(entry: Entry, policy: Policy | None) -> list[str]:
    heeded = {
        "pwdAccountLockedTime": policy is not None and policy.locks,
        "pwdReset": policy is not None and policy.must_change is True,
    }
    return [_as_it_stands(entry, name) for name, is_heeded in heeded.items() if is_heeded]


def _account_lock_switches(entry: Entry, policy: Policy | None) -> list[str]:
    demands = policy is not None and policy.must_change is True
    names = ("nsAccountLock", "passwordExpirationTime") if demands else ("nsAccountLock",)
    return [_as_it_stands(entry, name) for name in names]


def _control_switches(entry: Entry, policy: Policy | None) -> list[str]:
    """The password's time only where it can be demanded anew: not of machines, cards, or who keeps theirs."""
    stored = entry.number("useraccountcontrol") or 0
    demands = not stored & (_NEVER_EXPIRES | _SMARTCARD | _MACHINES)
    names = ("userAccountControl", "pwdLastSet") if demands else ("userAccountControl",)
    return [_as_it_stands(entry, name) for name in names]


def _idle_lock(facts: Facts, limit: timedelta | None, last: datetime | object | None, at: datetime) -> Facts:
    """What changes where accounts are barred after so long without a sign-in, counted from `last`."""
    until = facts.get("locked-until")
    is_over = isinstance(until, datetime) and until <= at
    if limit is None or last is None or (facts.get("locked") is True and not is_over):
        return {}
    if not isinstance(last, datetime):
        return {"locked": NOT_KNOWN}
    if last + limit > at:
        return {}
    lock = {"lock-cause": "inactivity", "locked-since": last + limit, "locked-until": None}
    return {"locked": True, **lock}


def _overlay_age(entry: Entry, policy: Policy | None, changed: datetime | None) -> Facts:
    if changed is None:
        # A password that was loaded without a date of change never expires.
        return {"password-never-expires": True, "password-expires": None, "password-lapses": None}
    if policy is None:
        return dict.fromkeys(("password-never-expires", "password-expires", "password-lapses"), NOT_KNOWN)
    if policy.max_age is None:
        return {"password-never-expires": True, "password-expires": None, "password-lapses": None}
    expires = changed + policy.max_age
    used = len(entry.times("pwdgraceusetime"))
    # With grace sign-ins left, an expired password is still taken, so often and so long and no more.
    graced = expires + policy.grace_for if policy.grace_for else None
    return {
        "password-never-expires": False,
        "password-expires": expires,
        "password-lapses": expires if used >= policy.grace else graced,
    }


def _overlay_lock(entry: Entry, policy: Policy | None) -> Facts:
    text = entry.text("pwdaccountlockedtime")
    # The attribute bars only where the policy in force locks at all.
    if text is None or (policy is not None and not policy.locks):
        return {"locked": False}
    since = generalized_time(text)
    cause = "failed-attempts" if since else "administrator"
    if policy is None:
        barred = {"enabled": NOT_KNOWN} if since is None else {}
        return {"locked": NOT_KNOWN, "lock-cause": cause, "locked-since": since, **barred}
    if since is None:
        # The overlay has no switch of its own: an account is switched off by this lock, which no time ends.
        return {"enabled": False, "locked": True, "lock-cause": cause}
    until = since + policy.lock_for if policy.lock_for else None
    return {"locked": True, "lock-cause": "failed-attempts", "locked-since": since, "locked-until": until}


def _account_lock(entry: Entry, policies: Policies, at: datetime) -> Facts:
    """The attributes beside nsAccountLock."""
    policy = policies.of(entry)
    last, created = entry.time("lastlogintime"), entry.time("createtimestamp")
    facts: Facts = {
        "enabled": entry.flag("nsaccountlock") is not True,
        # Servers write it only for passwords set after it was switched on: absent, it tells nothing.
        "password-changed": entry.time("pwdupdatetime") or NOT_KNOWN,
        "failed-attempts": entry.number("passwordretrycount") or 0,
        "last-sign-in": last,
        "starts": None,
        "ends": None,
        **_absolute_expiry(entry, policy),
        **_counted_lock(entry, policy),
    }
    limit = policies.idle_limit(entry)
    if limit is not None and not isinstance(limit, timedelta):
        return facts | ({"locked": NOT_KNOWN} if facts["locked"] is False else {})
    counted: datetime | object | None = last
    if last is None and policies.counts_from_creation is not False:
        counted = created if policies.counts_from_creation is True else NOT_KNOWN
    return facts | _idle_lock(facts, limit, counted, at)


def _absolute_expiry(entry: Entry, policy: Policy | None) -> Facts:
    """What passwordExpirationTime says: nothing, unless the policy lets passwords expire.

    The first second of 1970 asks for a change where the policy knows that, and else counts from the next
    sign-in, as the second after it does.
    """
    text, expires = entry.text("passwordexpirationtime"), entry.time("passwordexpirationtime")
    marked = expires is None or expires.year == 1970
    if policy is None:
        unread = dict.fromkeys(("password-never-expires", "password-expires", "password-lapses"), NOT_KNOWN)
        return {**unread, "password-must-change": NOT_KNOWN if text == _EPOCH_TEXT else False}
    facts: Facts = {
        "password-must-change": text == _EPOCH_TEXT and policy.must_change is True,
        "password-never-expires": not policy.expires,
        "password-expires": None,
        "password-lapses": None,
    }
    if policy.expires and not marked:
        used = entry.number("passwordgraceusertime") or 0
        facts |= {"password-expires": expires, "password-lapses": expires if used >= policy.grace else None}
    return facts


def _counted_lock(entry: Entry, policy: Policy | None) -> Facts:
    """A lock by failures: as many as the policy allows, and an end that is ahead or that never comes."""
    unlock, failures = entry.text("accountunlocktime"), entry.number("passwordretrycount") or 0
    until = generalized_time(unlock) if unlock else None
    if not failures or (until is None and unlock != _EPOCH_TEXT):
        return {"locked": False}
    lock: Facts = {"lock-cause": "failed-attempts", "locked-until": until}
    if policy is None:
        return lock | {"locked": NOT_KNOWN}
    if not policy.locks or failures < (policy.lock_after or 1) or (until is None and policy.unlocks):
        return {"locked": False}
    since = until - policy.lock_for if until and policy.lock_for else None
    return lock | {"locked": True, "locked-since": since}


def _account_control(entry: Entry, policies: Policies, at: datetime) -> Facts:
    """The attributes around userAccountControl. Its computed part knows what the stored part does not."""
    stored = entry.number("useraccountcontrol") or 0
    computed = entry.number("msds-user-account-control-computed")
    policy = policies.of(entry)
    never = bool(stored & (_NEVER_EXPIRES | _SMARTCARD | _MACHINES))
    set_at, ends = entry.number("pwdlastset"), entry.number("accountexpires")
    facts: Facts = {
        "enabled": not stored & _DISABLED,
        "ends": filetime(ends) if ends not in (0, _MOST) else None,
        "password-changed": filetime(set_at),
        "password-must-change": set_at == 0 and not never,
        "failed-attempts": entry.number("badpwdcount") or 0,
        "last-failed": filetime(entry.number("badpasswordtime")),
        "last-sign-in": max(
            filter(None, (filetime(entry.number(name)) for name in ("lastlogon", "lastlogontimestamp"))),
            default=None,
        ),
        "has-password": True if set_at else None,
        # Who has to show a card is let in by no password, though one is stored.
        "password-locked": bool(stored & _SMARTCARD),
        # A computer sets its own, whatever it was made with.
        "password-optional": bool(stored & _NOT_REQUIRED) and not stored & _MACHINES,
        "password-readable": bool(stored & _READABLE),
        **_control_expiry(entry, policy, never, set_at),
    }
    return facts | _control_lock(entry, policy, computed)


def _control_expiry(entry: Entry, policy: Policy | None, never: bool, set_at: int | None) -> Facts:
    """Never: by a flag, for machines and cards, or because the policy in force has no maximum age."""
    computed = entry.number("msds-userpasswordexpirytimecomputed")
    if never or computed == _MOST:
        return {"password-never-expires": True, "password-expires": None}
    if computed:
        return {"password-never-expires": False, "password-expires": filetime(computed)}
    if policy is None:
        expires = NOT_KNOWN if set_at else None
        return {"password-never-expires": NOT_KNOWN, "password-expires": expires}
    if policy.max_age is None:
        return {"password-never-expires": True, "password-expires": None}
    changed = filetime(set_at)
    return {
        "password-never-expires": False,
        "password-expires": changed + policy.max_age if changed else None,
    }


def _control_lock(entry: Entry, policy: Policy | None, computed: int | None) -> Facts:
    since = filetime(entry.number("lockouttime"))
    if since is None or (computed is not None and not computed & _LOCKED):
        return {"locked": False}
    lock: Facts = {"lock-cause": "failed-attempts", "locked-since": since}
    if policy is not None:
        until = since + policy.lock_for if policy.lock_for else None
        return lock | {"locked": True, "locked-until": until}
    return lock | {"locked": True if computed is not None else NOT_KNOWN}


_OVERLAY_FACTS = {
    "enabled": "pwdAccountLockedTime, as an administrator sets it",
    "password-changed": "pwdChangedTime",
    "password-must-change": "pwdReset",
    "password-never-expires": "pwdChangedTime and the policy",
    "password-expires": "pwdChangedTime and the policy",
    "password-lapses": "pwdChangedTime, pwdGraceUseTime and the policy",
    "locked": "pwdAccountLockedTime",
    "lock-cause": "pwdAccountLockedTime",
    "locked-since": "pwdAccountLockedTime",
    "locked-until": "pwdAccountLockedTime and the policy",
    "failed-attempts": "pwdFailureTime",
    "last-failed": "pwdFailureTime",
    "starts": "pwdStartTime",
    "ends": "pwdEndTime",
    "last-sign-in": "pwdLastSuccess and authTimestamp",
}
_ACCOUNT_LOCK_FACTS = {
    "enabled": "nsAccountLock",
    "password-changed": "pwdUpdateTime",
    "password-must-change": "passwordExpirationTime and the policy",
    "password-expires": "passwordExpirationTime and the policy",
    "password-never-expires": "passwordExpirationTime and the policy",
    "password-lapses": "passwordExpirationTime, passwordGraceUserTime and the policy",
    "failed-attempts": "passwordRetryCount",
    "last-sign-in": "lastLoginTime",
    "starts": NO_SUCH_THING,
    "ends": NO_SUCH_THING,
    "locked": "accountUnlockTime, lastLoginTime and acctPolicySubentry",
    "lock-cause": "accountUnlockTime",
    "locked-since": "accountUnlockTime and the policy",
    "locked-until": "accountUnlockTime",
}
_CONTROL_FACTS = {
    "enabled": "userAccountControl",
    "ends": "accountExpires",
    "password-changed": "pwdLastSet",
    "password-must-change": "pwdLastSet",
    "password-never-expires": "userAccountControl, msDS-UserPasswordExpiryTimeComputed, or the policy",
    "password-expires": "msDS-UserPasswordExpiryTimeComputed, or pwdLastSet and the policy",
    "failed-attempts": "badPwdCount",
    "last-failed": "badPasswordTime",
    "last-sign-in": "lastLogon and lastLogonTimestamp",
    "has-password": "pwdLastSet",
    "password-locked": "userAccountControl",
    "password-optional": "userAccountControl",
    "password-readable": "userAccountControl",
    "locked": "lockoutTime and msDS-User-Account-Control-Computed",
    "lock-cause": "lockoutTime",
    "locked-since": "lockoutTime",
    "locked-until": "lockoutTime and the policy",
}

FAMILIES = (
    Family(
        "password policy overlay",
        "pwdchangedtime pwdfailuretime pwdaccountlockedtime pwdlastsuccess pwdreset authtimestamp".split(),
        "pwdChangedTime pwdAccountLockedTime pwdFailureTime pwdGraceUseTime pwdReset pwdLastSuccess"
        " pwdStartTime pwdEndTime pwdPolicySubentry authTimestamp",
        _OVERLAY_FACTS,
        _overlay,
        _overlay_switches,
    ),
    Family(
        "nsAccountLock",
        "nsaccountlock passwordexpirationtime passwordretrycount accountunlocktime pwdupdatetime".split(),
        "nsAccountLock passwordExpirationTime passwordRetryCount accountUnlockTime pwdUpdateTime"
        " lastLoginTime passwordGraceUserTime pwdPolicySubentry acctPolicySubentry",
        _ACCOUNT_LOCK_FACTS,
        _account_lock,
        _account_lock_switches,
    ),
    Family(
        "userAccountControl",
        ["useraccountcontrol"],
        "userAccountControl msDS-User-Account-Control-Computed msDS-UserPasswordExpiryTimeComputed pwdLastSet"
        " accountExpires lockoutTime badPwdCount badPasswordTime lastLogon lastLogonTimestamp primaryGroupID"
        " msDS-ResultantPSO msDS-AllowedToDelegateTo",
        _CONTROL_FACTS,
        _account_control,
        _control_switches,
    ),
)


def delegations(entry: Entry) -> list[str]:
    """For whose services the account may act in others' names: `any service`, or those that are named."""
    control = entry.number("useraccountcontrol") or 0
    anywhere = ["any service"] if control & _TRUSTED_FOR_DELEGATION else []
    return anywhere + entry.texts("msds-allowedtodelegateto")


def is_machine(entry: Entry) -> bool:
    """Whether the account is a computer's, by its userAccountControl."""
    return bool((entry.number("useraccountcontrol") or 0) & _MACHINES)


def is_readable(values: list[bytes]) -> bool:
    """Whether a stored password stands there as it is: with no scheme in front, or one that says so."""
    return any(re.match(rb"\{CLEAR(TEXT)?\}|(?!\{)", value, re.IGNORECASE) for value in values)


def password_scheme(values: list[bytes]) -> str | None:
    """How a stored password is hashed, by the scheme in front of it; the rest is not looked at."""
    for value in values:
        text = value[:64].decode("latin-1")
        for pattern, scheme in _SCHEMES:
            if re.match(pattern, text, re.IGNORECASE):
                return scheme
        return "other"
    return None
