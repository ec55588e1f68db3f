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

from keymallet.sources.directory.entries import Entry, filetime, generalized_time
from keymallet.sources.directory.policies import NOT_KNOWN, Policy

Facts = dict[str, Any]
_DISABLED, _LOCKED, _NEVER_EXPIRES, _SMARTCARD, _EXPIRED = 0x2, 0x10, 0x10000, 0x40000, 0x800000
_TRUSTED_FOR_DELEGATION = 0x80000
_MACHINES = 0x1000 | 0x2000
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
    """One family of attributes: which show that it can be seen, what to ask for, what it supplies, how."""

    name: str
    witnesses: list[str]
    attributes: str
    supplies: dict[str, str]
    read: Callable[[Entry, Policy | None, datetime], Facts]


def _overlay(entry: Entry, policy: Policy | None, at: datetime) -> Facts:
    """The password policy overlay (draft-behera-ldap-password-policy)."""
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
        "starts": entry.time("pwdstarttime"),
        "ends": entry.time("pwdendtime"),
        "last-sign-in": max(entry.times("pwdlastsuccess") + entry.times("authtimestamp"), default=None),
        **_overlay_age(entry, policy, changed),
        **_overlay_lock(entry, policy),
    }
    return facts | idle_lock(facts, policy.max_idle if policy else None, at)


def idle_lock(facts: Facts, limit: timedelta | object | None, at: datetime) -> Facts:
    """What changes where accounts are barred after so long without a sign-in.

    The limit is NOT_KNOWN where the policy that has it was not read.
    """
    last, until = facts.get("last-sign-in"), facts.get("locked-until")
    is_over = isinstance(until, datetime) and until <= at
    if limit is None or last is None or (facts.get("locked") is True and not is_over):
        return {}
    if not isinstance(limit, timedelta):
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
    # With grace sign-ins left, an expired password is still taken, so often and no more.
    return {
        "password-never-expires": False,
        "password-expires": expires,
        "password-lapses": expires if used >= policy.grace else None,
    }


def _overlay_lock(entry: Entry, policy: Policy | None) -> Facts:
    text = entry.text("pwdaccountlockedtime")
    if text is None:
        return {"locked": False}
    since = generalized_time(text)
    if since is None:
        return {"locked": True, "lock-cause": "administrator"}
    if policy is None:
        return {"locked": NOT_KNOWN, "lock-cause": "failed-attempts", "locked-since": since}
    until = since + policy.lock_for if policy.lock_for else None
    return {"locked": True, "lock-cause": "failed-attempts", "locked-since": since, "locked-until": until}


def _account_lock(entry: Entry, policy: Policy | None, at: datetime) -> Facts:
    """The attributes beside nsAccountLock."""
    expires = entry.time("passwordexpirationtime")
    unlock = entry.text("accountunlocktime")
    facts: Facts = {
        "enabled": entry.flag("nsaccountlock") is not True,
        "password-changed": entry.time("pwdupdatetime"),
        "password-must-change": entry.text("passwordexpirationtime") == _EPOCH_TEXT,
        "password-expires": expires,
        "password-never-expires": expires is None and entry.text("passwordexpirationtime") is None,
        "failed-attempts": entry.number("passwordretrycount") or 0,
        "last-sign-in": entry.time("lastlogintime"),
        "locked": False,
        "password-lapses": _grace_over(entry, policy, expires),
    }
    if unlock == _EPOCH_TEXT:
        facts |= {"locked": True, "lock-cause": "failed-attempts"}
    elif unlock is not None and (until := generalized_time(unlock)) is not None:
        since = until - policy.lock_for if policy and policy.lock_for else None
        facts |= {
            "locked": True,
            "lock-cause": "failed-attempts",
            "locked-until": until,
            "locked-since": since,
        }
    return facts


def _grace_over(entry: Entry, policy: Policy | None, expires: datetime | None) -> Any:
    """When an expired password is no longer taken: at once, unless grace sign-ins are left."""
    if expires is None:
        return None
    if policy is None:
        return NOT_KNOWN
    used = entry.number("passwordgraceusertime") or 0
    return expires if used >= policy.grace else None


def _account_control(entry: Entry, policy: Policy | None, at: datetime) -> Facts:
    """The attributes around userAccountControl. Its computed part knows what the stored part does not."""
    stored = entry.number("useraccountcontrol") or 0
    computed = entry.number("msds-user-account-control-computed")
    never = bool(stored & _NEVER_EXPIRES)
    set_at, ends = entry.number("pwdlastset"), entry.number("accountexpires")
    facts: Facts = {
        "enabled": not stored & _DISABLED,
        "ends": filetime(ends) if ends not in (0, _MOST) else None,
        "password-changed": filetime(set_at),
        "password-must-change": set_at == 0 and not stored & (_SMARTCARD | _NEVER_EXPIRES),
        "password-never-expires": never,
        "failed-attempts": entry.number("badpwdcount") or 0,
        "last-failed": filetime(entry.number("badpasswordtime")),
        "last-sign-in": max(
            filter(None, (filetime(entry.number(name)) for name in ("lastlogon", "lastlogontimestamp"))),
            default=None,
        ),
        "has-password": True if set_at else None,
        **_control_expiry(entry, policy, never, set_at),
    }
    return facts | _control_lock(entry, policy, computed)


def _control_expiry(entry: Entry, policy: Policy | None, never: bool, set_at: int | None) -> Facts:
    computed = entry.number("msds-userpasswordexpirytimecomputed")
    if never or computed == _MOST or not set_at:
        return {"password-expires": None}
    if computed is not None:
        return {"password-expires": filetime(computed)}
    changed = filetime(set_at)
    if policy is None or changed is None:
        return {"password-expires": NOT_KNOWN}
    return {"password-expires": changed + policy.max_age if policy.max_age else None}


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
    "enabled": "the overlay knows no switch but the lock",
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
    "password-must-change": "passwordExpirationTime",
    "password-expires": "passwordExpirationTime",
    "password-never-expires": "passwordExpirationTime",
    "password-lapses": "passwordExpirationTime, passwordGraceUserTime and the policy",
    "failed-attempts": "passwordRetryCount",
    "last-sign-in": "lastLoginTime",
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
    "password-never-expires": "userAccountControl",
    "password-expires": "msDS-UserPasswordExpiryTimeComputed, or pwdLastSet and the policy",
    "failed-attempts": "badPwdCount",
    "last-failed": "badPasswordTime",
    "last-sign-in": "lastLogon and lastLogonTimestamp",
    "has-password": "pwdLastSet",
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
    ),
    Family(
        "nsAccountLock",
        "nsaccountlock passwordexpirationtime passwordretrycount accountunlocktime pwdupdatetime".split(),
        "nsAccountLock passwordExpirationTime passwordRetryCount accountUnlockTime pwdUpdateTime"
        " lastLoginTime passwordGraceUserTime pwdPolicySubentry acctPolicySubentry",
        _ACCOUNT_LOCK_FACTS,
        _account_lock,
    ),
    Family(
        "userAccountControl",
        ["useraccountcontrol"],
        "userAccountControl msDS-User-Account-Control-Computed msDS-UserPasswordExpiryTimeComputed pwdLastSet"
        " accountExpires lockoutTime badPwdCount badPasswordTime lastLogon lastLogonTimestamp primaryGroupID"
        " msDS-ResultantPSO msDS-AllowedToDelegateTo",
        _CONTROL_FACTS,
        _account_control,
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


def password_scheme(values: list[bytes]) -> str | None:
    """How a stored password is hashed, by the scheme in front of it; the rest is not looked at."""
    for value in values:
        text = value[:64].decode("latin-1")
        for pattern, scheme in _SCHEMES:
            if re.match(pattern, text, re.IGNORECASE):
                return scheme
        return "other"
    return None
