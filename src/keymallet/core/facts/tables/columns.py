"""How columns are declared in one line, and the words that several tables share."""

from __future__ import annotations

from dataclasses import replace

from keymallet.core.facts.model import Column, Derivation, Kind


def flag(
    name: str, meaning: str, definition: str = "", always: bool = False, *, said: str, beside: str = ""
) -> Column:
    """A yes or no."""
    how = Derivation.ALWAYS if always else Derivation.UNLESS_KNOWN
    told_with = tuple(beside.split())
    return Column(
        name, Kind.FLAG, meaning, definition=definition, derivation=how, said=said, beside=told_with
    )


def text(name: str, meaning: str, *, said: str) -> Column:
    """A text."""
    return Column(name, Kind.TEXT, meaning, said=said)


def count(name: str, meaning: str, *, said: str) -> Column:
    """A number."""
    return Column(name, Kind.COUNT, meaning, said=said)


def word(name: str, meaning: str, words: str, *, said: str) -> Column:
    """A word of a closed set."""
    return Column(name, Kind.WORD, meaning, tuple(words.split()), said=said)


def words(name: str, meaning: str, words: str = "", *, said: str) -> Column:
    """A list of words."""
    return Column(name, Kind.WORDS, meaning, tuple(words.split()), said=said)


def past(name: str, meaning: str, *, said: str) -> Column:
    """An instant of something that has happened."""
    return Column(name, Kind.INSTANT, meaning, past=True, said=said)


def instant(name: str, meaning: str, *, said: str) -> Column:
    """An instant."""
    return Column(name, Kind.INSTANT, meaning, said=said)


def closes(name: str, meaning: str, *, said: str) -> Column:
    """The first instant at which something no longer holds."""
    return Column(name, Kind.INSTANT, meaning, closes=True, said=said)


def span(name: str, meaning: str, *, said: str) -> Column:
    """A length of time."""
    return Column(name, Kind.SPAN, meaning, said=said)


def beside_secrets(column: Column) -> Column:
    """The column, which a secret may stand beside in a source."""
    return replace(column, secret=True)


STANDS_AT = text(
    "stands-at",
    "where it stands in its own system, as that system writes it: a DN, a file, a group",
    said="stands at {} / where it stands is not on record",
)
"""Where somebody would change it; known only of systems in whose own form changes can be written."""


AS_FOUND = words(
    "as-found",
    "what stands there that a change has to know, as the system writes it; a name alone: it is not set",
    said="found there: {} / nothing on record of what stands there",
)


FOR_CHANGES = (STANDS_AT, AS_FOUND)
"""Facts that nobody asks for: what rests on them is how a change is written."""
NAMES_FOR_CHANGES = tuple(column.name for column in FOR_CHANGES)


FACTOR_KINDS = (
    "password otp push sms voice email hardware-key passkey software-key smartcard biometric recovery-codes"
)


TAKEN_KEYS = "api-key app-password entry-code invitation reset-link session"
"""Keys that are no factor: what is shown is the key itself."""


KEY_KINDS = (
    "api-key ssh-key ssh-certificate certificate app-password entry-code invitation reset-link session"
)


WHERE_PEOPLE_STAND = "expected present away left"


ACCOUNT_REFERENCE = text("account", "the account the row belongs to, as source/name", said="account {}")
