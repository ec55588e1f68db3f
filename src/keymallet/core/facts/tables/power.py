"""The tables of privilege: the rights that are held, and each elevation."""

from __future__ import annotations

from keymallet.core.facts.model import Column, Kind, KnownBy, Table
from keymallet.core.facts.tables.columns import (
    ACCOUNT_REFERENCE,
    AS_FOUND,
    FACTOR_KINDS,
    STANDS_AT,
    closes,
    flag,
    instant,
    past,
    text,
    word,
    words,
)

_HOLDS = "not surely(until(starts) > 0s) and not surely(until(ends) <= 0s)"
"""A right of which nobody says when it begins or ends is held: it is on the list."""


GRANT = Table(
    "grant",
    "what an account may do, one row each",
    (
        ACCOUNT_REFERENCE,
        text("role", "what it may do", said="role {} / no role on record"),
        flag(
            "privileged",
            "the role is one of power over others' accounts or systems",
            said="is privileged / is not privileged",
        ),
        word(
            "mode",
            "held all the time, or only when asked for",
            "standing on-request",
            said="is {} / not on record whether standing or on request",
        ),
        text(
            "via",
            "direct, or the group path it comes through",
            said="held by way of: {} / how it is held is not on record",
        ),
        text("scope", "what it covers, such as which commands", said="scope {} / no scope on record"),
        flag(
            "asks-proof",
            "using it asks to prove again who one is, such as by password",
            said="asks for proof at each use / asks for no proof at use",
        ),
        instant("starts", "first instant at which it holds", said="began / begins / no start date on record"),
        closes(
            "ends", "first instant at which it no longer holds", said="ended / ends / no end date on record"
        ),
        flag(
            "holds",
            "it is held at the instant judged",
            _HOLDS,
            always=True,
            said="is held now / is not held now",
        ),
        text("assigned-by", "who gave it", said="given by {} / who gave it is not on record"),
        Column(
            "last-opened",
            Kind.INSTANT,
            "when the right was last made use of",
            past=True,
            across=True,
            said="last used / never used, as far as recorded",
        ),
        STANDS_AT,
        AS_FOUND,
    ),
    label=("role", "via"),
    known_by=KnownBy(("role", "via", "scope")),
    said="right / rights",
    listed_as="held",
)


ELEVATION = Table(
    "elevation",
    "each time privilege was asked for or opened",
    (
        ACCOUNT_REFERENCE,
        text("elevation", "its id", said="id {} / no id on record"),
        text("role", "the privilege asked for", said="role {} / no role on record"),
        past("asked", "when it was asked for", said="requested / date of the request not on record"),
        past("approved", "when it was approved", said="approved / no approval on record"),
        text("approved-by", "who approved it", said="approved by {} / approved by nobody on record"),
        text("reason", "why it was asked for", said="reason given: {} / no reason on record"),
        text("ticket", "the ticket it was asked under", said="ticket {} / no ticket on record"),
        instant("starts", "when it opens", said="elevated from / starts / start not on record"),
        closes("ends", "when it was planned to close", said="planned to end / planned end not on record"),
        past("closed", "when it really closed", said="ended / not ended, as far as recorded"),
        words("proof", "factor kinds shown", FACTOR_KINDS, said="proven with {} / no factor shown"),
        word(
            "outcome",
            "what became of it",
            "opened refused lapsed waiting",
            said="is {} / outcome not on record",
        ),
        flag(
            "by-own-right",
            "nobody had to be asked: a standing right was used, as with sudo",
            "false",
            said="used a standing right / was requested, not a standing right",
        ),
        Column(
            "lasted",
            Kind.SPAN,
            "from its start until it was closed, or is planned to be",
            across=True,
            said="elevated for {} / length not on record",
        ),
        Column(
            "stretch",
            Kind.SPAN,
            "the unbroken stretch of openings that it is part of",
            across=True,
            said="elevated without a break for {} / length not on record",
        ),
        Column(
            "opened-in-week",
            Kind.SPAN,
            "how long the account was open in the week up to its end",
            across=True,
            said="elevated for {} within a week / hours in the week not on record",
        ),
        Column(
            "approves-itself",
            Kind.FLAG,
            "approved by the person who asked",
            across=True,
            said="the person who asked also approved it / somebody else approved it",
            beside=("approved-by",),
        ),
        Column(
            "hollow-reason",
            Kind.FLAG,
            "its reason says nothing: empty, short, filler",
            across=True,
            said="its reason says nothing / its reason says something",
            beside=("reason",),
        ),
        Column(
            "same-reason",
            Kind.COUNT,
            "how many other openings have the very same reason",
            across=True,
            said="{} other elevation has the same reason / {} other elevations have the same reason",
        ),
        Column(
            "entitled",
            Kind.FLAG,
            "the right to request it was held when it began",
            across=True,
            said="the account had the right to request it / the account had no right to request it",
        ),
    ),
    label=("elevation", "role"),
    known_by=KnownBy(own="elevation", otherwise=("role", "asked", "starts")),
    said="elevation / elevations",
)
