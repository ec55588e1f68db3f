"""The tables that people keep: the staff roster and the register of exemptions."""

from __future__ import annotations

from keymallet.core.facts.model import Column, Kind, KnownBy, Table
from keymallet.core.facts.tables.columns import (
    WHERE_PEOPLE_STAND,
    closes,
    count,
    instant,
    past,
    span,
    text,
    word,
    words,
)

PERSON = Table(
    "person",
    "the staff roster",
    (
        text("person", "the person's number", said="staff number {} / no staff number on record"),
        text("name", "the person's name", said="name {} / no name on record"),
        text("mail", "mail address", said="mail address {} / no mail address on record"),
        text("unit", "the part of the organisation", said="unit {} / no unit on record"),
        text("manager", "the number of the manager", said="manager {} / no manager on record"),
        word(
            "status",
            "where the person stands",
            WHERE_PEOPLE_STAND,
            said="status on the staff list: {} / no status on the staff list",
        ),
        instant("joins", "first day", said="joined / joins / no first day on record"),
        closes("leaves", "first instant after the last day", said="left / leaves / no last day on record"),
        word(
            "contract",
            "kind of contract",
            "staff contractor temporary external",
            said="contract: {} / contract not on record",
        ),
    ),
    owner="",
    label=("person", "name", "unit"),
    known_by=KnownBy(own="person", otherwise=("mail", "name")),
    said="person / people",
)


EXEMPTION = Table(
    "exemption",
    "the register of exclusions",
    (
        text("exemption", "its id", said="entry {} / no id on record"),
        word(
            "kind",
            "why it exists",
            "emergency technical accepted-risk transition",
            said="kind {} / kind not on record",
        ),
        words("accounts", "patterns of the accounts it covers", said="for accounts {} / for no accounts"),
        words("rules", "patterns of the rules it covers", said="for rules {} / for no rules"),
        words(
            "gates",
            "patterns of the gates that may leave its accounts out",
            said="for sign-in requirements {} / for no sign-in requirement",
        ),
        text("reason", "why", said="reason given: {} / no reason on record"),
        text("asked-by", "who asked", said="requested by {} / who requested it is not on record"),
        text("approved-by", "who approved", said="approved by {} / approved by nobody on record"),
        instant("from", "first instant at which it holds", said="began / begins / no start date on record"),
        closes("until", "first instant at which it no longer holds", said="ended / ends / no end date"),
        past(
            "reviewed", "when it was last reviewed", said="last reviewed / never reviewed, as far as recorded"
        ),
        span(
            "review-every",
            "how often it has to be reviewed",
            said="to be reviewed every {} / no interval for reviews on record",
        ),
        past(
            "drilled",
            "last time an emergency account was tried",
            said="last tried in a drill / never tried in a drill, as far as recorded",
        ),
        words("watch", "who is told when it is used", said="on use, {} is told / nobody is told on use"),
        text(
            "safeguards",
            "what limits the harm meanwhile",
            said="meanwhile limited by {} / nothing on record that limits the harm",
        ),
        count(
            "matched",
            "how many accounts its patterns matched when it was approved",
            said="matched {} account when approved / matched {} accounts when approved / "
            "how many accounts it matched when approved is not on record",
        ),
        Column(
            "covers",
            Kind.COUNT,
            "how many accounts its patterns match",
            across=True,
            said="covers {} account / covers {} accounts",
        ),
        Column(
            "excuses",
            Kind.COUNT,
            "how many breaches it covers, whether in force or not",
            across=True,
            said="excuses {} breach / excuses {} breaches",
        ),
        Column(
            "names-nobody",
            Kind.WORDS,
            "patterns of accounts that match none",
            across=True,
            said="names {}, which no account matches / names only accounts that exist",
        ),
        Column(
            "names-no-rule",
            Kind.WORDS,
            "patterns of rules that match none",
            across=True,
            said="names {}, which no rule matches / names only rules that exist",
        ),
        Column(
            "names-no-gate",
            Kind.WORDS,
            "patterns of gates that match none",
            across=True,
            said="names {}, which no sign-in requirement matches / "
            "names only sign-in requirements that exist",
        ),
        Column(
            "approves-itself",
            Kind.FLAG,
            "approved by whom it covers, or who asked",
            across=True,
            said="the person who asked, or whom it covers, also approved it / somebody else approved it",
            beside=("approved-by",),
        ),
        Column(
            "hollow-reason",
            Kind.FLAG,
            "its reason says nothing: empty, filler",
            across=True,
            said="its reason says nothing / its reason says something",
            beside=("reason",),
        ),
    ),
    owner="",
    label=("exemption",),
    known_by=KnownBy(("exemption",)),
    said="exemption / exemptions",
)
