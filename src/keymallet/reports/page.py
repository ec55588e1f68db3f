"""A report as one HTML file: read, searched and printed with no network, and without script if need be."""

from __future__ import annotations

import polars as pl

from keymallet.core.rulebook.model import SEVERITIES
from keymallet.reports import csv_table
from keymallet.reports.content import Content, basis
from keymallet.reports.registry import Look, Pieces
from keymallet.reports.templating import filled_in

MOST = 2_000
"""So many findings are on the page; of more, all are in a file beside it, and the page links to that."""
WORST = 12
"""So many of the worst accounts are named."""


def write(content: Content, look: Look) -> bytes:
    """The page. Raises KeymalletError if the package for templates is missing, or a template is broken."""
    shown = content.findings.head(MOST)
    told = {
        "shown": list(shown.iter_rows(named=True)),
        "more": content.findings.height - shown.height,
        "file_of_all": _file_of_all(look),
        "worst": _worst(content),
        "answerers": _by_answerer(content),
        "severities": [*content.by_severity()],
        "basis": basis(content),
    }
    return filled_in("page.html", told, content, look).encode()


def beside(content: Content, look: Look) -> dict[str, Pieces]:
    """All findings as CSV with its metadata, where they are too many for the page."""
    if content.findings.height <= MOST:
        return {}
    table = Look(name=_file_of_all(look))
    return {table.name: csv_table.write(content, table), **csv_table.beside(content, table)}


def _file_of_all(look: Look) -> str:
    """What the file beside the page is called; empty where nothing can stand beside it."""
    return f"{look.name.rpartition('.')[0] or look.name}-findings.csv" if look.name else ""


def _worst(content: Content) -> list[tuple[str, int, str, str]]:
    """The accounts with most that is grave: name, how many findings, the gravest, and its title."""
    named = content.broken.filter(pl.col("name").is_not_null())
    of_each = [(pl.col("severity") == word).sum().alias(f"of {word}") for word in SEVERITIES]
    # The findings stand in the order of their severity: the first of an account is its gravest.
    told = [pl.len().alias("number"), pl.first("severity"), pl.first("title")]
    grouped = named.group_by("account", maintain_order=True).agg(*of_each, *told)
    by = [f"of {word}" for word in SEVERITIES]
    worst = grouped.sort([*by, "account"], descending=[*(True for _ in by), False]).head(WORST)
    return list(worst.select("account", "number", "severity", "title").iter_rows())


def _by_answerer(content: Content) -> list[tuple[str, int, int]]:
    """Who answers for how many, and for how many that are late; those with most that is late first."""
    open_ones, late = content.by("answerer"), {}
    for name, number in content.late["answerer"].fill_null("").value_counts().iter_rows():
        late[name] = int(number)
    told = [(name, number, late.get(name, 0)) for name, number in open_ones.items()]
    return sorted(told, key=lambda each: (-each[2], -each[1], each[0]))
