"""How facts are spoken: `password set 2026-03-02`, `is switched off`, `4 failed sign-ins`, `API key`.

Each column declares its phrase as `said`, its forms apart by " / ":

- a flag: what is said where it is true, and where it is not;
- an instant: of one that is past, of one to come (left out where it is the same), of none;
- a number: of one, of several (left out where it is the same), of none; the figure stands for `{}`;
- anything else: with its value for `{}`, and of none.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache

import polars as pl

from keymallet.core.facts.model import Column, Kind, Table

FORMS = " / "
READ_WORDS = {
    "otp": "code app",
    "push": "push approval",
    "sms": "text message",
    "voice": "voice call",
    "email": "mail",
    "hardware-key": "hardware key",
    "software-key": "software key",
    "smartcard": "smart card",
    "recovery-codes": "recovery codes",
    "second-factor": "second factor",
    "any-second": "any second factor",
    "phishing-resistant": "a phishing-resistant factor",
    "api-key": "API key",
    "ssh-key": "SSH key",
    "ssh-certificate": "SSH certificate",
    "app-password": "app password",
    "entry-code": "entry code",
    "reset-link": "reset link",
    "on-request": "on request",
    "in-force": "in force",
    "on-trial": "on trial",
    "accepted-risk": "accepted risk",
    "failed-attempts": "failed sign-ins",
    "forced-command": "for one command",
    "success": "successful",
    "failure": "failed",
    "key-and-password": "a key and the password",
    "two-keys": "two keys",
    "two-keys-and-password": "two keys and the password",
}
"""How words of closed sets are read, where that is not as they are written."""


@dataclass(frozen=True)
class Phrase:
    """The forms of a fact's phrase: for true or past or one; for false or to come or several; for none."""

    first: str
    second: str
    none: str


@cache
def phrase(column: Column) -> Phrase:
    """How the fact is spoken."""
    forms = column.said.split(FORMS)
    nothing = f"{column.name} not on record"
    if column.kind is Kind.FLAG:
        return Phrase(forms[0], forms[1], nothing)
    if column.kind is Kind.INSTANT:
        return Phrase(forms[0], forms[-2], forms[-1])
    if column.kind is Kind.COUNT:
        several = forms[1] if len(forms) > 1 else forms[0]
        return Phrase(forms[0], several, forms[2] if len(forms) > 2 else nothing)
    return Phrase(forms[0], forms[0], forms[1] if len(forms) > 1 else nothing)


def read_word(word: str) -> str:
    """A word of a closed set as people read it."""
    return READ_WORDS.get(word, word)


def read_words(values: pl.Expr, kind: Kind) -> pl.Expr:
    """A word, or a list of words, of a closed set as people read them."""
    if kind is Kind.WORDS:
        return values.list.eval(pl.element().cast(pl.String).replace(READ_WORDS))
    return values.cast(pl.String).replace(READ_WORDS)


def noun(table: Table, several: bool = False) -> str:
    """What a row of the table is called, or several."""
    return table.said.split(FORMS)[1 if several else 0]


def spoken(column: Column, value: pl.Expr, written: pl.Expr, now: pl.Expr) -> pl.Expr:
    """The phrase with each value in it. `written` is the value as text, as closely as it is to be told."""
    said = phrase(column)
    if column.kind is Kind.FLAG:
        given = pl.when(value).then(pl.lit(said.first)).when(~value).then(pl.lit(said.second))
        return given.otherwise(pl.lit(said.none))
    if column.kind is Kind.INSTANT:
        lead = pl.when(value > now).then(pl.lit(said.second)).otherwise(pl.lit(said.first))
        return pl.when(value.is_null()).then(pl.lit(said.none)).otherwise(pl.format("{} {}", lead, written))
    if column.kind is Kind.COUNT:
        one, several = (pl.format(form, written) for form in (said.first, said.second))
        return pl.when(value.is_null()).then(pl.lit(said.none)).when(value == 1).then(one).otherwise(several)
    absent = value.is_null() | (value.list.len() == 0) if column.kind is Kind.WORDS else value.is_null()
    return pl.when(absent).then(pl.lit(said.none)).otherwise(pl.format(said.first, written))
