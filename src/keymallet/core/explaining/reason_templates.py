"""The closed set of things a reason can say, and their text: what is, then what is required."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import polars as pl

TEMPLATES: Mapping[str, str] = {
    "limit": "{found}; limit {required}",
    "minimum": "{found}; minimum {required}",
    "at-most": "{found}; at most {required} allowed",
    "less-than": "{found}; less than {required} allowed",
    "fewer-than": "{found}; fewer than {required} allowed",
    "at-least": "{found}; at least {required} required",
    "more-than": "{found}; more than {required} required",
    "equal": "{found}; required: {required}",
    "not-equal": "{found}; not allowed",
    "no-later-than": "{found}; has to be {required} at the latest",
    "before": "{found}; has to be before {required}",
    "no-earlier-than": "{found}; has to be {required} or later",
    "after": "{found}; has to be after {required}",
    "to-come": "{found}; has to be in the future",
    "to-be-past": "{found}; has to be in the past",
    "fact-at-most": "{found}; allowed at most: {required}",
    "fact-less-than": "{found}; allowed less than: {required}",
    "fact-at-least": "{found}; required at least: {required}",
    "fact-more-than": "{found}; required more than: {required}",
    "fact-equal": "{found}; has to agree with: {required}",
    "fact-not-equal": "{found}; must differ from: {required}",
    "fact-no-later-than": "{found}; has to be no later than: {required}",
    "fact-before": "{found}; has to be before: {required}",
    "fact-no-earlier-than": "{found}; has to be no earlier than: {required}",
    "fact-after": "{found}; has to be after: {required}",
    "none-allowed": "{found}; none allowed",
    "some-required": "{found}; at least 1 required",
    "something-listed": "{found}",
    "nothing-listed": "{found}",
    "one-of": "{found}; allowed: {required}",
    "none-of": "{found}; not allowed",
    "includes": "{found}; required: {required}",
    "includes-not": "{found}; not allowed: {required}",
    "matches": "{found}; has to match {required}",
    "matches-not": "{found}; must not match {required}",
    "on-record": "{found}",
    "not-on-record": "{found}",
    "flag": "{found}",
    "flag-opened": "{found}: {because}",
    "shared": "{found}",
    "no-such-row": "{found}",
    "such-a-row": "{found}",
    "not-every-row": "{found}",
    "every-row": "{found}",
    "in-scope": "in scope: {found}",
    "as-written": "{found}",
}
"""A reason's text by the template's id. `fact-…` compare with another fact, not with a figure of the book."""

ARGUMENTS = ("template", "about", "found", "required", "limit", "rows")
"""What a reason says to machines: its template; the expression it is about, in the rule language; the value
found and the one required, as outputs write them; the name of the limit; the rows that it names."""


def filled(template: str, slots: Mapping[str, pl.Series | str]) -> pl.Series:
    """The template's text with its slots filled; null where one of them is."""
    pieces: list[pl.Expr] = []
    columns: list[pl.Series] = []
    for text, slot in _parsed(TEMPLATES[template]):
        if text:
            pieces.append(pl.lit(text))
        if slot:
            value = slots[slot]
            if isinstance(value, str):
                pieces.append(pl.lit(value))
            else:
                columns.append(value.alias(slot))
                pieces.append(pl.col(slot))
    return pl.DataFrame(columns).select(pl.concat_str(pieces).alias("=")).to_series()


def _parsed(template: str) -> Iterable[tuple[str, str]]:
    for number, piece in enumerate(template.replace("}", "{").split("{")):
        yield ("", piece) if number % 2 else (piece, "")
