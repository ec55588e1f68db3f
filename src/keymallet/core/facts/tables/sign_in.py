"""The tables of what signs in: factors, keys, sign-ins that happened, and the ways in they open."""

from __future__ import annotations

from keymallet.core.facts.model import Column, Kind, KnownBy, Table
from keymallet.core.facts.tables.columns import (
    ACCOUNT_REFERENCE,
    AS_FOUND,
    FACTOR_KINDS,
    KEY_KINDS,
    STANDS_AT,
    TAKEN_KEYS,
    beside_secrets,
    closes,
    count,
    flag,
    instant,
    past,
    text,
    word,
    words,
)

_OPEN = """
account.enabled and not surely(until(account.starts) > 0s)
and (account.ends is unknown or until(account.ends) > 0s)
and not surely(until(account.password-lapses) <= 0s)
and taken and state = active and not surely(until(starts) > 0s)
and (expires is unknown or until(expires) > 0s)
and (not by-password or account.has-password and not surely(account.password-locked))
and (not account.locked or not by-password and surely(account.lock-stops = password))
"""


_KEY_USABLE = "state = active and not surely(until(starts) > 0s) and not surely(until(expires) <= 0s)"


_RESISTANT = "kind in [hardware-key, passkey, smartcard]"


FACTOR = Table(
    "factor",
    "what proves a sign-in, one row each",
    (
        ACCOUNT_REFERENCE,
        word("kind", "what sort of proof", FACTOR_KINDS, said="{} / kind not on record"),
        text(
            "amr",
            "authentication method reference value (RFC 8176)",
            said="method reference {} / no method reference on record",
        ),
        past("registered", "when it was enrolled", said="registered / registration date not on record"),
        past("last-used", "when it last proved a sign-in", said="last used / never used, as far as recorded"),
        word("state", "whether it works", "active suspended pending", said="is {} / state not on record"),
        flag(
            "phishing-resistant",
            "cannot be relayed by a false site",
            _RESISTANT,
            said="is phishing-resistant / is not phishing-resistant",
        ),
        flag(
            "exportable",
            "it can be copied to other devices, as a synced passkey is",
            said="can be copied to other devices / cannot be copied to other devices",
        ),
        text("label", "what its owner calls it", said="label {} / no label"),
        text(
            "device",
            "digest or serial of the device it is on, for seeing what is shared",
            said="device {} / device not on record",
        ),
        Column(
            "shared-with",
            Kind.WORDS,
            "accounts of other people that the same device proves; at most ten are named",
            across=True,
            said="the same device also proves {} / its device proves nobody else",
        ),
        STANDS_AT,
    ),
    label=("kind", "state"),
    known_by=KnownBy(("kind",), "device", ("label",)),
    said="factor / factors",
    listed_as="registered",
)


KEY = Table(
    "key",
    "secrets that work on their own, one row each",
    (
        ACCOUNT_REFERENCE,
        beside_secrets(text("key", "its public id", said="key id {} / no key id on record")),
        word("kind", "what sort of secret", KEY_KINDS, said="{} / kind not on record"),
        past("issued", "when it was made", said="issued / issue date not on record"),
        instant(
            "starts",
            "first instant at which it works",
            said="valid since / valid from / no start date on record",
        ),
        closes(
            "expires",
            "first instant at which it no longer works",
            said="expired / expires / no expiry date on record",
        ),
        past("last-used", "when it was last used", said="last used / never used, as far as recorded"),
        word("state", "whether it works", "active inactive revoked used", said="is {} / state not on record"),
        count(
            "uses-left",
            "how often it can still be used",
            said="{} use left / {} uses left / number of uses not limited",
        ),
        text("algorithm", "the algorithm of the key", said="algorithm {} / algorithm not on record"),
        Column("bits", Kind.COUNT, "size of the key in bits", said="{} bit / {} bits / size not on record"),
        beside_secrets(
            text(
                "digest",
                "digest of the public part, for seeing what is shared",
                said="digest {} / no digest on record",
            )
        ),
        Column(
            "shared-with",
            Kind.WORDS,
            "accounts of other people that the same key opens; at most ten are named",
            across=True,
            said="also opens {} / opens no other account",
        ),
        Column(
            "shared-with-root",
            Kind.FLAG,
            "the same key opens a root account",
            across=True,
            said="also opens a root account / opens no root account",
        ),
        flag(
            "usable",
            "it works at the instant judged",
            _KEY_USABLE,
            always=True,
            said="still works / no longer works",
        ),
        text("superseded-by", "the id of the one that replaces it", said="replaced by {} / not replaced"),
        text("scope", "what it may be used for", said="scope {} / no scope on record"),
        text("label", "what its owner calls it", said="label {} / no label"),
        STANDS_AT,
        AS_FOUND,
    ),
    label=("kind", "key"),
    known_by=KnownBy(("kind",), "key", ("label", "issued")),
    said="key / keys",
)


SIGN_IN = Table(
    "sign-in",
    "sign-in events, where a source has them",
    (
        ACCOUNT_REFERENCE,
        past("at", "when", said="made / time not on record"),
        word("outcome", "whether it succeeded", "success failure", said="is {} / outcome not on record"),
        text("cause", "why it failed", said="failed because of {} / no cause of failure on record"),
        words("proof", "factor kinds shown", FACTOR_KINDS, said="proven with {} / no factor shown"),
        text("origin", "where it came from", said="from {} / origin not on record"),
        Column(
            "in-opening",
            Kind.FLAG,
            "the account was elevated at the time",
            across=True,
            said="happened during an elevation / happened outside any elevation",
        ),
        Column(
            "explained",
            Kind.FLAG,
            "the register records a use or a drill at the time",
            across=True,
            said="is explained by a use or drill in the register / "
            "is not explained by any use or drill in the register",
        ),
        Column(
            "outside-hours",
            Kind.FLAG,
            "it lies outside the hours that its account is allowed",
            across=True,
            said="is outside the allowed hours / is within the allowed hours",
        ),
    ),
    label=("outcome", "origin"),
    known_by=KnownBy(("at", "outcome", "origin")),
    said="sign-in / sign-ins",
)


WAY_IN = Table(
    "way-in",
    "each way to sign in to an account: what is shown together on it, and whether it is open",
    (
        ACCOUNT_REFERENCE,
        Column(
            "key",
            Kind.TEXT,
            "the public id of the key it begins with",
            secret=True,
            across=True,
            said="key {} / no key",
        ),
        Column(
            "over",
            Kind.WORD,
            "where it leads in: network, console, service (programs), federation (proven by another system)",
            ("network", "console", "service", "federation"),
            across=True,
            said="over {} / where it leads in is not on record",
        ),
        Column(
            "takes",
            Kind.WORDS,
            "what has to be shown, all of it together",
            tuple(f"{FACTOR_KINDS} second-factor {TAKEN_KEYS}".split()),
            across=True,
            said="with {} / with nothing",
        ),
        Column(
            "by-password",
            Kind.FLAG,
            "the account's own password is part of it",
            across=True,
            said="uses the account's password / does not use the account's password",
        ),
        Column(
            "taken",
            Kind.FLAG,
            "the system takes this there",
            across=True,
            said="is accepted by the system / is not accepted by the system",
        ),
        Column(
            "state",
            Kind.WORD,
            "whether the key or factor works; of several, the worst",
            tuple("active suspended pending inactive revoked used".split()),
            across=True,
            said="is {} / state not on record",
        ),
        Column(
            "starts",
            Kind.INSTANT,
            "first instant at which it works",
            across=True,
            said="valid since / valid from / no start date on record",
        ),
        Column(
            "expires",
            Kind.INSTANT,
            "first instant at which it no longer works",
            across=True,
            said="expired / expires / no expiry date on record",
        ),
        Column(
            "assurance",
            Kind.COUNT,
            "the authentication assurance level that it reaches by NIST SP 800-63B-4; 0: nothing is proven",
            across=True,
            said="assurance level {}",
        ),
        Column(
            "proven-by",
            Kind.TEXT,
            "the account of another system that proves it",
            across=True,
            said="proven by {} / proven by no other system",
        ),
        flag(
            "open",
            "somebody gets in this way at the instant judged",
            _OPEN,
            always=True,
            said="is open / is closed",
        ),
    ),
    label=("over", "takes", "key"),
    known_by=KnownBy(("over", "takes", "key")),
    across=True,
    said="way in / ways in",
)
