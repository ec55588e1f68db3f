"""The findings of a report as one table, which every format of rows writes: a row a finding."""

from __future__ import annotations

from collections.abc import Iterator

import polars as pl

from keymallet.core.base.printable import plain
from keymallet.core.facts.evidence import INSTANT
from keymallet.outputs.values import parts_of
from keymallet.reports.content import Content

MEANINGS: dict[str, str] = {
    "finding-id": "what the finding is known by, from run to run",
    "rule": "the rule it falls short of",
    "title": "what that rule asks, in words",
    "severity": "critical, high, medium or low",
    "verdict": "breach or exempt; empty where it was not seen in this run",
    "account": "the account, as source/name",
    "subject": "the key, factor, grant or person it is on, if it is on one",
    "display": "the name that people know the account by",
    "unit": "the unit the account belongs to",
    "source": "the source the account is in",
    "because": "why it falls short",
    "change": "what would mend it",
    "since": "since when it has been so",
    "until": "when time alone changes it",
    "state": "new, open, late, back, exemption ended, exempt or not seen",
    "first-seen": "when a run first saw it",
    "due": "by when it has to be mended",
    "late-by-seconds": "for how long it is past that, in seconds",
    "times-back": "how often it came back after it had ended",
    "answerer": "who answers for it",
    "answerer-mail": "the address of who answers for it",
    "cause": "what brought it to its state",
}
"""What each column of a finding means; the columns in their order."""


def tables(content: Content) -> Iterator[pl.DataFrame]:
    """The findings, part by part in the order of the report, with the columns of MEANINGS."""
    late = pl.col("late-by").dt.total_seconds().alias("late-by-seconds")
    for part in parts_of(content.findings):
        yield part.with_columns(late).select(list(MEANINGS))


def instants() -> list[str]:
    """The names of the columns that hold instants."""
    return ["since", "until", "first-seen", "due"]


def numbers() -> list[str]:
    """The names of the columns that hold whole numbers."""
    return ["late-by-seconds", "times-back"]


def milliseconds(name: str) -> pl.Expr:
    """An instant as milliseconds since 1970, as many formats of events have it."""
    return pl.col(name).cast(INSTANT).dt.timestamp("ms").alias(name)


_STEERS = r"[\p{C}[\p{Z}--\x20]]"
"""What `printable.plain` writes as an escape."""


def plainly(frame: pl.DataFrame) -> pl.DataFrame:
    """The frame with every text free of what steers a terminal, or hides."""
    odd = [
        name
        for name, kind in frame.schema.items()
        if kind == pl.String and frame[name].str.contains(_STEERS).any()
    ]
    return frame.with_columns(pl.col(odd).map_elements(plain, return_dtype=pl.String)) if odd else frame
