"""Columns of accounts: whose each is, how long it lasts, what power and which twins it has."""

from __future__ import annotations

from keymallet.core.facts.model import Column, Kind
from keymallet.core.facts.tables.columns import (
    AS_FOUND,
    STANDS_AT,
    WHERE_PEOPLE_STAND,
    closes,
    flag,
    instant,
    past,
    text,
    word,
    words,
)


def _answering(fact: str, who: str) -> tuple[Column, Column]:
    """Where the person stands whom a fact of an account names, and when they leave."""
    words = tuple(WHERE_PEOPLE_STAND.split())
    return (
        Column(
            f"{fact}-status",
            Kind.WORD,
            f"where {who} stands, by the roster",
            words,
            across=True,
            said=f"status of its {fact}: {{}} / its {fact} is not on the staff list",
        ),
        Column(
            f"{fact}-leaves",
            Kind.INSTANT,
            f"when {who} leaves, by the roster",
            across=True,
            said=f"its {fact} left / its {fact} leaves / no last day of its {fact} on record",
        ),
    )


_PRIVILEGED = """
some grant (privileged and mode = standing and holds)
or some elevation (outcome = opened and not by-own-right and age(starts) >= 0s and until(ends) > 0s
                   and closed is unknown)
"""
_HOLDS_POWER = "privileged or surely(some grant (privileged and mode = on-request and holds))"
_FOR_PEOPLE = """
surely(interactive) or not surely(not interactive) and kind in [person, guest, shared]
"""

WHOSE: tuple[Column, ...] = (
    text("account", "source/name: the key that all other tables refer to", said="account {}"),
    text("source", "the source's name in the estate file", said="in {}"),
    text(
        "stable-id",
        "the source's own lasting id; follows renames",
        said="lasting id {} / no lasting id on record",
    ),
    STANDS_AT,
    AS_FOUND,
    text("name", "the login name", said="login name {} / no login name on record"),
    text("display", "the name shown to people", said="shown as {} / no shown name on record"),
    text("mail", "mail address", said="mail address {} / no mail address on record"),
    text("person", "the person's number in the roster", said="staff number {} / no staff number on record"),
    Column(
        "tied-by",
        Kind.TEXT,
        "what told whose it is: the number in the source, or a tie",
        across=True,
        said="matched to its person by {} / not matched to a person",
    ),
    Column(
        "on-roster",
        Kind.FLAG,
        "its person stands in the staff roster",
        across=True,
        said="belongs to somebody on the staff list / belongs to nobody on the staff list",
    ),
    text("owner", "who answers for an account that is no person's", said="owner {} / no owner on record"),
    *_answering("owner", "its owner"),
    word(
        "kind",
        "whose or what it is",
        "person guest service shared system emergency",
        said="kind {} / kind not on record",
    ),
    text("unit", "the part of the organisation it belongs to", said="unit {} / no unit on record"),
    text("title", "the job it is held for", said="job title {} / no job title on record"),
    text("manager", "whom it answers to", said="manager {} / no manager on record"),
    *_answering("manager", "whom it answers to"),
    text("location", "where it is used", said="location {} / no location on record"),
    flag("built-in", "it came with the system", said="came with the system / did not come with the system"),
    words(
        "allowed-hours",
        "when it may be used, by the estate's clock, such as mon-fri 07:00-19:00",
        said="allowed hours {} / no allowed hours on record",
    ),
    past(
        "reviewed",
        "when somebody last confirmed that its access is still right",
        said="access last confirmed / access never confirmed, as far as recorded",
    ),
    flag("enabled", "the administrator's own switch", said="is switched on / is switched off"),
    flag(
        "interactive",
        "a person could open a session with it (shell, console sign-in)",
        said="can open a session / cannot open a session",
    ),
    flag(
        "for-people",
        "people sign in with it: it is interactive, or of their kind where its source does not tell",
        _FOR_PEOPLE,
        always=True,
        said="people sign in with it / no person signs in with it",
    ),
    past("created", "when it was made", said="created / no creation date on record"),
    instant(
        "starts",
        "first instant at which it can be used",
        said="started / starts / no start date on record",
    ),
    closes(
        "ends",
        "first instant at which it can no longer be used",
        said="ended / ends / no end date on record",
    ),
    past("last-sign-in", "newest successful sign-in known", said="last signed in / no sign-in on record"),
    Column(
        "awaited-since",
        Kind.INSTANT,
        "when it was made, if nobody has signed in to it yet",
        past=True,
        across=True,
        said="waiting for its first sign-in since / not waiting for a first sign-in",
    ),
    flag(
        "privileged",
        "holds at least one privileged grant now, standing or opened",
        _PRIVILEGED,
        said="is privileged now / is not privileged now",
    ),
    flag(
        "holds-power",
        "it is privileged, or may open privilege when asked for",
        _HOLDS_POWER,
        always=True,
        said="is privileged or may become so on request / has no privilege and no right to request it",
    ),
    words("entitlements", "what it is licensed for", said="licensed for {} / no licences"),
    words("labels", "free labels", said="labels {} / no labels"),
    words("groups", "all its groups, nested ones included", said="in groups {} / in no group"),
    Column(
        "twins",
        Kind.WORDS,
        "the same account in systems paired with its own",
        across=True,
        said="same account in {} / no matching account in paired systems",
    ),
    Column(
        "no-twin-in",
        Kind.WORDS,
        "paired systems in which it is missing",
        across=True,
        said="missing from {} / missing from no paired system",
    ),
    Column(
        "twin-differs",
        Kind.WORDS,
        "facts in which a twin differs from it, and how",
        across=True,
        said="differs: {} / agrees with paired systems",
    ),
)
"""Whose it is, how long it lasts and what it is entitled to."""
