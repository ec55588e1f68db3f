"""A report as a workbook (Office Open XML): a sheet a topic, with dates as dates and numbers as numbers."""

from __future__ import annotations

import io
import re
from collections.abc import Iterable
from datetime import datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.base.optional_packages import extra
from keymallet.core.base.printable import plain
from keymallet.reports.content import Content, basis
from keymallet.reports.registry import Look

MOST_ROWS = 1_000_000
"""So many findings stand on one sheet; the format itself ends at 1,048,576 rows."""
_LONGEST = 32_767
"""So many characters fit into a cell."""
_COLUMNS: tuple[tuple[str, str, int], ...] = (
    ("severity", "severity", 10),
    ("rule", "title", 44),
    ("account", "account", 30),
    ("on", "subject", 26),
    ("name", "display", 22),
    ("unit", "unit", 16),
    ("why", "because", 60),
    ("to do", "change", 44),
    ("state", "state", 12),
    ("first seen", "first-seen", 17),
    ("since", "since", 17),
    ("due", "due", 17),
    ("days late", "late-by", 10),
    ("answers for it", "answerer", 24),
    ("rule id", "rule", 26),
    ("finding", "finding-id", 24),
)
"""Heading, column of the findings, and width in characters."""


def write(content: Content, look: Look) -> bytes:
    """The workbook. Raises KeymalletError if the package for workbooks is not installed."""
    xlsxwriter: Any = extra("xlsxwriter", "reports", "reports as a workbook")
    buffer = io.BytesIO()
    # Rows go to a file as they are written: a million findings do not stand in memory.
    with xlsxwriter.Workbook(buffer, {"constant_memory": True, "remove_timezone": True}) as book:
        # The same run gives the same workbook.
        book.set_properties({"created": content.at.replace(tzinfo=None), "title": plain(content.rulebook)})
        sheets = _Sheets(book, content.clock)
        sheets.pairs("Summary", _summary(content))
        topics = {rule.id: rule.topic or "other" for rule in content.rules}
        findings = content.findings.with_columns(
            pl.col("rule").replace_strict(topics, default="other", return_dtype=pl.String).alias("topic")
        )
        for (topic,), part in findings.group_by("topic", maintain_order=True):
            sheets.findings(str(topic), part)
        if content.sources:
            sheets.table(
                "What was read",
                (("source", 30), ("read", 17), ("accounts", 11), ("records not read", 16), ("missing", 60)),
                (
                    (each.name, each.read_at, each.accounts, each.refused, "; ".join(each.missing))
                    for each in content.sources
                ),
            )
        sheets.table(
            "Rules",
            (("severity", 10), ("rule", 26), ("title", 50), ("of those", 50), ("it asks", 60), ("after", 40)),
            (
                (rule.severity, rule.id, rule.title, rule.who, rule.must, ", ".join(rule.cite))
                for rule in content.rules
            ),
        )
    return buffer.getvalue()


def _summary(content: Content) -> list[tuple[str, object]]:
    rows: list[tuple[str, object]] = [("verdict", content.verdict())]
    rows += [("limited to", said) for said in content.narrowed]
    rows += [("in breach", content.broken.height), ("past due", content.late.height)]
    rows += [(f"in breach, {word}", number) for word, number in content.by_severity().items()]
    rows += [(f"changed: {state}", number) for state, number in content.states().items()]
    rows += [("the evidence is incomplete", gap) for gap in content.gaps]
    return rows + list(basis(content))


class _Sheets:
    """The sheets of a workbook, each with a frozen head, filters and widths."""

    def __init__(self, book: Any, clock: ZoneInfo) -> None:
        self.book = book
        self.clock = clock
        self.head = book.add_format({"bold": True, "bottom": 1})
        self.instant = book.add_format({"num_format": "yyyy-mm-dd hh:mm"})
        # Beside texts in a wide column, a number at its right end would not be seen.
        self.beside_texts = book.add_format({"align": "left"})
        self.names: set[str] = set()

    def pairs(self, name: str, rows: Iterable[tuple[str, object]]) -> None:
        """A sheet of what there is to say once."""
        sheet = self.book.add_worksheet(self._named(name))
        sheet.set_column(0, 0, 34)
        sheet.set_column(1, 1, 90)
        for place, (what, value) in enumerate(rows):
            sheet.write_string(place, 0, what, self.head if place == 0 else None)
            self._cell(sheet, place, 1, value, self.beside_texts)

    def findings(self, topic: str, rows: pl.DataFrame) -> None:
        """The findings of a topic, on as many sheets as they need."""
        columns = [column for _, column, _ in _COLUMNS]
        for start in range(0, rows.height, MOST_ROWS):
            part = rows.slice(start, MOST_ROWS).select(columns)
            name = (
                topic.capitalize()
                if rows.height <= MOST_ROWS
                else f"{topic.capitalize()} {start // MOST_ROWS + 1}"
            )
            self.table(name, [(heading, width) for heading, _, width in _COLUMNS], part.iter_rows())

    def table(
        self, name: str, columns: Iterable[tuple[str, int]], rows: Iterable[tuple[object, ...]]
    ) -> None:
        """A sheet with a heading and rows."""
        columns = list(columns)
        sheet = self.book.add_worksheet(self._named(name))
        sheet.freeze_panes(1, 0)
        for place, (heading, width) in enumerate(columns):
            sheet.set_column(place, place, width)
            sheet.write_string(0, place, heading, self.head)
        last = 0
        for last, row in enumerate(rows, start=1):
            for place, value in enumerate(row):
                self._cell(sheet, last, place, value)
        if last:
            sheet.autofilter(0, 0, last, len(columns) - 1)

    def _cell(self, sheet: Any, row: int, place: int, value: object, style: Any = None) -> None:
        if isinstance(value, datetime):
            sheet.write_datetime(row, place, value.astimezone(self.clock).replace(tzinfo=None), self.instant)
        elif isinstance(value, timedelta):
            sheet.write_number(row, place, value.days)
        elif isinstance(value, int):
            sheet.write_number(row, place, value, style)
        elif value is not None and value != "":
            # As a string, whatever it begins with: a name is no formula, and no link.
            sheet.write_string(row, place, plain(value)[:_LONGEST])

    def _named(self, wanted: str) -> str:
        """A name that the format takes, and no other sheet has."""
        name = re.sub(r"[\[\]:*?/\\']", "-", wanted)[:28]
        number, found = 1, name
        while found.lower() in self.names:
            number += 1
            found = f"{name} {number}"
        self.names.add(found.lower())
        return found
