"""What proves a sign-in on a host: the password and the keys an account has.

A key that lives in hardware (`sk-…`) is a factor that cannot be relayed; any other key is a file.
Whether the system takes a proof at all, over the network or at the console, is another fact.
"""

from __future__ import annotations

from typing import Any

from keymallet.sources.host.pam import Stacks

_USUAL = frozenset(
    "pam_access pam_cap pam_deny pam_env pam_faildelay pam_faillock pam_group pam_issue pam_keyinit"
    " pam_lastlog pam_limits pam_localuser pam_loginuid pam_mail pam_motd pam_nologin pam_permit"
    " pam_rootok pam_securetty pam_selinux pam_shells pam_succeed_if pam_systemd pam_time pam_unix"
    " pam_usertype pam_wheel pam_fprintd".split()
)
"""Modules of the authentication stacks that bring no factor of their own besides the password."""


def factors_of(accounts: list[dict[str, Any]], keys: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """A row for each password and each key; a key of which nothing is known is such a factor."""
    passwords = [
        {
            "account": row["name"],
            "kind": "password",
            "amr": "pwd",
            "registered": row.get("password-changed"),
            "state": _password_state(row),
        }
        for row in accounts
        if row["has-password"] is not False
    ]
    taken = {row["name"]: row.get("remote-together") or row.get("remote-key") for row in accounts}
    return passwords + [_of_key(row, taken[row["account"]]) for row in keys]


def _password_state(row: dict[str, Any]) -> str | None:
    """Suspended where it is barred; unknown where nobody can tell whether some password matches."""
    if row.get("password-locked"):
        return "suspended"
    return "active" if row["has-password"] else None


def _of_key(row: dict[str, Any], taken: bool | None) -> dict[str, Any]:
    if "key" not in row:
        return dict(row)
    in_hardware = row["algorithm"].endswith("-sk")
    works = row["state"] == "active" and taken is not False
    return {
        "account": row["account"],
        "kind": "hardware-key" if in_hardware else "software-key",
        "amr": "hwk" if in_hardware else "swk",
        "last-used": row["last-used"],
        "state": None if row["state"] is None else "active" if works else "suspended",
        "label": row["label"],
    }


def other_modules(stacks: Stacks) -> list[str]:
    """Modules that may ask for something of their own, such as a code: what they ask is not known here."""
    lines = (line for service in ("sshd", "login") for line in stacks.service(service))
    return sorted({line.name for line in lines if line.phase == "auth" and line.name not in _USUAL})
