"""The tables of what a system has in force: sign-in requirements and settings."""

from __future__ import annotations

from keymallet.core.facts.model import Column, Kind, KnownBy, Table
from keymallet.core.facts.tables.columns import (
    FACTOR_KINDS,
    count,
    flag,
    span,
    text,
    word,
    words,
)

GATE = Table(
    "gate",
    "sign-in requirements configured in a system",
    (
        text("gate", "its name", said="requirement {} / no name on record"),
        text("source", "the source's name in the estate file", said="in {}"),
        word("state", "whether it is in force", "in-force on-trial off", said="is {} / state not on record"),
        words(
            "asks-for",
            "what it asks for",
            FACTOR_KINDS + " any-second phishing-resistant",
            said="asks for {} / asks for nothing",
        ),
        words("covers", "accounts, groups, kinds or everyone", said="covers {} / covers nobody"),
        words(
            "leaves-out",
            "accounts, groups or kinds it does not ask",
            said="leaves out {} / leaves out nobody",
        ),
        words(
            "applications", "what it guards; none named: everything", said="for {} / for every application"
        ),
        Column(
            "asks-accounts",
            Kind.COUNT,
            "how many enabled accounts it covers and asks",
            across=True,
            said="asks {} account / asks {} accounts",
        ),
        Column(
            "leaves-out-accounts",
            Kind.COUNT,
            "how many enabled accounts it leaves out",
            across=True,
            said="leaves out {} account / leaves out {} accounts",
        ),
        Column(
            "names-nobody",
            Kind.WORDS,
            "what it names that is no account, group or kind",
            across=True,
            said="names {}, which does not exist / names only what exists",
        ),
    ),
    owner="",
    label=("gate",),
    known_by=KnownBy(("gate",)),
    said="sign-in requirement / sign-in requirements",
)


SETTING = Table(
    "setting",
    "a password, lockout or session policy in force in a system",
    (
        text("setting", "its name", said="setting {} / no name on record"),
        text("source", "the source's name in the estate file", said="in {}"),
        words(
            "applies-to", "accounts, groups, kinds or everyone", said="applies to {} / applies to everyone"
        ),
        count(
            "min-length",
            "shortest password accepted, characters",
            said="shortest password allowed: {} character / shortest password allowed: {} characters / "
            "no shortest length of passwords",
        ),
        count(
            "classes",
            "character classes asked for",
            said="requires {} class of characters / requires {} classes of characters / "
            "requires no classes of characters",
        ),
        flag(
            "letters-and-digits",
            "both letters and digits are asked for",
            said="requires letters and digits / does not require letters and digits",
        ),
        count(
            "history",
            "how many earlier passwords are refused",
            said="refuses {} earlier password / refuses {} earlier passwords / refuses no earlier passwords",
        ),
        span(
            "max-age", "how long a password lasts", said="passwords expire after {} / passwords never expire"
        ),
        span(
            "min-age",
            "how long a password must be kept",
            said="passwords have to be kept for {} / passwords can be changed at once",
        ),
        span(
            "warn-before",
            "how long before the end a warning is given",
            said="warns {} before a password expires / does not warn before a password expires",
        ),
        count(
            "lock-after",
            "failed attempts that lock; none: it never locks",
            said="locks after {} failed sign-in / locks after {} failed sign-ins / "
            "never locks after failed sign-ins",
        ),
        span(
            "lock-for",
            "how long a lock lasts; none: until somebody unlocks it",
            said="lock lasts {} / lock lasts until somebody unlocks it",
        ),
        span(
            "count-within",
            "the stretch in which failures are counted together",
            said="counts failed sign-ins together for {} / failed sign-ins are counted without an end",
        ),
        span(
            "idle-limit",
            "how long a session may idle",
            said="ends an idle session after {} / never ends an idle session",
        ),
        span(
            "session-limit",
            "how long a session may last",
            said="ends a session after {} / never ends a session",
        ),
        flag(
            "first-use-change",
            "a password handed out must be changed at first use",
            said="a password that was handed out has to be changed at first use / "
            "a password that was handed out can be kept",
        ),
        flag(
            "remote-password",
            "passwords are taken over the network",
            said="accepts passwords over the network / does not accept passwords over the network",
        ),
        word(
            "remote-root",
            "how root may sign in over the network",
            "no forced-command key yes",
            said="root over the network: {} / whether root may sign in over the network is not on record",
        ),
        span(
            "elevation-limit",
            "how long opened privilege may last",
            said="ends an elevation after {} / never ends an elevation",
        ),
    ),
    owner="",
    label=("setting",),
    known_by=KnownBy(("setting",)),
    said="setting / settings",
)
