"""Columns of accounts: what it is asked for at sign-in, its factors, its password and its locks."""

from __future__ import annotations

from keymallet.core.facts.model import Column, Kind
from keymallet.core.facts.tables.columns import (
    FACTOR_KINDS,
    beside_secrets,
    closes,
    count,
    flag,
    past,
    text,
    word,
    words,
)

_SECOND_FACTOR = """
some factor (state = active and kind in [otp, push, sms, voice, hardware-key, passkey, smartcard])
or surely(some way-in (by-password and key is known and taken and state = active))
or federated and proven-with includes any of [otp, push, sms, voice, hardware-key, passkey, smartcard]
"""
_RESISTANT_FACTOR = """
some factor (phishing-resistant and state = active)
or federated and proven-with includes any of [hardware-key, passkey, smartcard]
"""
_HAS_PASSWORD = """
has-password or surely(password-empty) or not surely(not has-password) and surely(password-changed is known)
"""
"""Where nobody says whether there is a password, the day on which it was set does."""
_LOCKED = """
locked and not surely(until(locked-until) <= 0s) or surely(until(password-lapses) <= 0s)
"""
_USABLE = "some way-in (open)"

SIGNED_IN: tuple[Column, ...] = (
    Column(
        "federated",
        Kind.FLAG,
        "it has no password of its own: its sign-ins are proven by another system",
        across=True,
        said="sign-in is proven by another system / signs in by itself, not through another system",
    ),
    Column(
        "proven-by",
        Kind.TEXT,
        "the account of another system that proves its sign-ins",
        across=True,
        said="sign-in proven by {} / no other system proves its sign-in",
    ),
    Column(
        "proven-with",
        Kind.WORDS,
        "the factors that work at the account that proves it",
        tuple(FACTOR_KINDS.split()),
        across=True,
        said="sign-in proven with {} / no factor at the account that proves it",
    ),
    Column(
        "covered-by",
        Kind.WORDS,
        "gates in force that ask it for something",
        across=True,
        said="covered by {} / covered by no sign-in requirement",
    ),
    Column(
        "left-out-by",
        Kind.WORDS,
        "gates in force that cover it and leave it out",
        across=True,
        said="left out by {} / left out by no sign-in requirement",
    ),
    Column(
        "left-out-unregistered",
        Kind.WORDS,
        "gates in force that leave it out, and that no entry of the register in force names for it",
        across=True,
        said="left out by {} without an entry in the register / every exclusion is in the register",
    ),
    Column(
        "exempted-by",
        Kind.WORDS,
        "entries of the register in force that cover it",
        across=True,
        said="exempted by {} / exempted by nothing",
    ),
    Column(
        "drilled",
        Kind.INSTANT,
        "when it was last tried, by the register",
        past=True,
        across=True,
        said="last tried in a drill / never tried in a drill, as far as recorded",
    ),
    Column(
        "use-explained",
        Kind.FLAG,
        "its last sign-in falls within a use or a drill that the register records",
        across=True,
        said="its last sign-in is explained in the register"
        " / its last sign-in is not explained in the register",
        beside=("last-sign-in",),
    ),
    Column(
        "watched",
        Kind.FLAG,
        "by the register somebody is told when it is used",
        across=True,
        said="somebody is told when it is used / nobody is told when it is used",
    ),
    Column(
        "watched-by",
        Kind.WORDS,
        "gates that would ask it, but only watch",
        across=True,
        said="on trial in {} / in no requirement on trial",
    ),
    flag(
        "second-factor-registered",
        "it has a second factor that works: not a key that is taken instead of the password",
        _SECOND_FACTOR,
        said="has a second factor that works / has no second factor that works",
    ),
    flag(
        "phishing-resistant-registered",
        "it has a factor that works and cannot be relayed by a false site",
        _RESISTANT_FACTOR,
        said="has a phishing-resistant factor / has no phishing-resistant factor",
    ),
    flag(
        "second-factor-enforced",
        "its system itself says that it asks it for a second factor",
        said="its system asks for a second factor / its system asks for no second factor",
    ),
    Column(
        "second-factor-required",
        Kind.FLAG,
        "it is asked for a second factor, whatever it signs in to: by a gate in force, or by its system",
        across=True,
        said="has to show a second factor at sign-in / can sign in without a second factor",
    ),
    Column(
        "phishing-resistant-required",
        Kind.FLAG,
        "a gate in force asks it for what cannot be relayed by a false site, whatever it signs in to",
        across=True,
        said="has to show a phishing-resistant factor at sign-in / "
        "can sign in without a phishing-resistant factor",
    ),
    Column(
        "accepted-factors",
        Kind.WORDS,
        "the second factors that every gate which asks it for one accepts",
        tuple("otp push sms voice software-key hardware-key passkey smartcard".split()),
        across=True,
        said="accepted as second factor: {} / no second factor is accepted",
    ),
    beside_secrets(
        flag(
            "has-password",
            "there is a password; an empty one counts",
            _HAS_PASSWORD,
            always=True,
            said="has a password / has no password",
        )
    ),
    beside_secrets(
        flag(
            "password-empty",
            "the password is empty: anybody gets in",
            said="its password is empty / its password is not empty",
        )
    ),
    beside_secrets(
        flag(
            "password-optional",
            "its system would take an empty password for it",
            said="its system would accept an empty password / its system does not accept an empty password",
        )
    ),
    beside_secrets(
        flag(
            "password-readable",
            "its system keeps the password so that it can be read back",
            said="its password can be read back / its password cannot be read back",
        )
    ),
    beside_secrets(
        flag(
            "password-locked",
            "the password is barred; other ways in are not",
            said="its password is blocked / its password is not blocked",
        )
    ),
    beside_secrets(
        word(
            "password-scheme",
            "how the password is stored",
            "argon2 yescrypt bcrypt scrypt pbkdf2 sha512 sha256 md5 des other",
            said="password stored as {} / how the password is stored is not on record",
        )
    ),
    beside_secrets(
        text(
            "password-digest",
            "digest of how the password is stored, to see copies; not kept",
            said="password digest {} / no password digest on record",
        )
    ),
    Column(
        "password-shared-with",
        Kind.WORDS,
        "accounts of other people with accounts with the same password; at most ten are named",
        across=True,
        said="same password as {} / password shared with nobody",
    ),
    past(
        "password-changed",
        "when the password was last set",
        said="password set / date of the password not on record",
    ),
    Column(
        "password-set-with",
        Kind.COUNT,
        "how many others of its source had theirs set in the same hour, or on the same day where only"
        " days are told, beyond what is usual there",
        across=True,
        said="password set together with {} other / password set together with {} others",
    ),
    flag(
        "password-must-change",
        "the next sign-in has to set a new one",
        said="has to change its password at next sign-in / "
        "does not have to change its password at next sign-in",
        beside="password-changed",
    ),
    flag(
        "password-never-expires",
        "the source never asks for a new one",
        said="its password never expires / its password expires",
    ),
    closes(
        "password-expires",
        "when the source itself stops accepting the password",
        said="password expired / password expires / no expiry of the password on record",
    ),
    closes(
        "password-lapses",
        "when the source bars the account because no new password was set",
        said="barred for not changing its password / will be barred for not changing its password / "
        "not barred for an old password",
    ),
    flag(
        "initial-password",
        "still the password that was handed out",
        said="still has the password it was handed / has changed the password it was handed",
        beside="password-changed",
    ),
    flag(
        "remote-password",
        "the system takes a password over the network, given there is one",
        said="accepts a password over the network / does not accept a password over the network",
    ),
    flag(
        "remote-key",
        "the system takes a key over the network, given there is one",
        said="accepts a key over the network / does not accept a key over the network",
    ),
    words(
        "remote-together",
        "what it takes over the network only together, one proof after the other",
        "key-and-password two-keys two-keys-and-password",
        said="accepts over the network {} / accepts nothing in combination",
    ),
    flag(
        "locked",
        "locked at the instant judged",
        _LOCKED,
        always=True,
        said="is locked / is not locked",
        beside="lock-cause locked-since",
    ),
    word(
        "lock-cause",
        "what locked it",
        "failed-attempts administrator inactivity other",
        said="locked because of {} / cause of the lock not on record",
    ),
    word(
        "lock-stops",
        "what the lock stops; unknown: every way in",
        "everything password",
        said="its lock stops {} / its lock stops every way in",
    ),
    past("locked-since", "since when it is locked", said="locked / start of the lock not on record"),
    closes(
        "locked-until",
        "when the lock ends by itself; unknown: not until somebody unlocks it",
        said="lock ended / lock ends / the lock does not end by itself",
    ),
    count(
        "failed-attempts",
        "failed sign-ins that count towards a lock",
        said="{} failed sign-in / {} failed sign-ins",
    ),
    Column(
        "locked-before",
        Kind.COUNT,
        "how often failures locked it, by the sign-ins on record",
        across=True,
        said="locked {} time / locked {} times",
    ),
    past(
        "last-failed",
        "newest failed sign-in known",
        said="last failed sign-in / no failed sign-in on record",
    ),
    flag(
        "usable",
        "some way into it is open",
        _USABLE,
        always=True,
        said="somebody can sign in to it / nobody can sign in to it",
    ),
)
"""What it is asked for at sign-in, what proves it, its password and its locks."""
