"""The table of formats a report can have; light, so that options and help can be made from it.

A format is a module with a function `write(content: Content, look: Look)`, which gives its bytes, in one
piece or in many, and a row here. Where files belong beside it, the module has a function
`beside(content, look)` as well, which gives them by name.
"""

from __future__ import annotations

import importlib
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

if TYPE_CHECKING:
    from keymallet.reports.content import Content

Pieces = bytes | Iterable[bytes]
"""What a format makes: its bytes in one piece, or piece by piece as they are written."""


@dataclass(frozen=True)
class Issuer:
    """Who signs tokens, for whom they are, and the private key (PEM), which shows itself nowhere."""

    name: str
    audience: tuple[str, ...]
    key: str = field(repr=False)


class Look(NamedTuple):
    """How a report is to look, and what its file is called.

    `templates` is a folder with an organisation's own templates and colours, if it has one. With
    `spreadsheet`, rows are meant for a program that takes some texts for formulas. `sender` is the address
    that letters are from, `sent_at` when (None: they are as old as the run), `issuer` who signs tokens.
    """

    templates: Path | None = None
    name: str = "report"
    spreadsheet: bool = False
    sender: str = ""
    issuer: Issuer | None = None
    sent_at: datetime | None = None


class ReportFormat(NamedTuple):
    """One format: for whom it is, the ending of its files, the extra it needs, and the module that writes it.

    Of what takes judging again: `drawn` says whether it shows pictures, `ahead` whether it tells what is to
    come. `placed` says whether it names the files and lines that facts came from.
    """

    audience: str
    ending: str
    module: str
    extra: str = ""
    drawn: bool = False
    ahead: bool = False
    placed: bool = False

    @property
    def write(self) -> Callable[[Content, Look], Pieces]:
        """The function that writes it; its module is loaded now."""
        write: Callable[[Content, Look], Pieces] = importlib.import_module(self.module).write
        return write

    @property
    def beside(self) -> Callable[[Content, Look], dict[str, Pieces]] | None:
        """The function that gives the files that belong beside it, if there are any."""
        found: Callable[[Content, Look], dict[str, Pieces]] | None
        found = getattr(importlib.import_module(self.module), "beside", None)
        return found


REPORTS: dict[str, ReportFormat] = {
    "page": ReportFormat(
        "managers and auditors: one HTML file, to be read, searched and printed",
        ".html",
        "keymallet.reports.page",
        "reports",
        drawn=True,
    ),
    "pdf": ReportFormat(
        "sending and signing: the page as it prints on A4",
        ".pdf",
        "keymallet.reports.pdf",
        "pdf",
        drawn=True,
    ),
    "markdown": ReportFormat("tickets and wikis", ".md", "keymallet.reports.markdown"),
    "workbook": ReportFormat(
        "those who live in spreadsheets: a sheet for each topic",
        ".xlsx",
        "keymallet.reports.workbook",
        "reports",
    ),
    "letter": ReportFormat(
        "who answers: a mail of what is theirs, with --each answerer",
        ".eml",
        "keymallet.reports.letter",
        "reports",
    ),
    "calendar": ReportFormat(
        "calendars: due dates, and the reviews, drills and ends to come",
        ".ics",
        "keymallet.reports.calendar",
        "calendar",
        ahead=True,
    ),
    "csv": ReportFormat(
        "further processing: a row a finding, and metadata that says what each column means",
        ".csv",
        "keymallet.reports.csv_table",
    ),
    "json": ReportFormat(
        "programs: one object, whose schema ships", ".json", "keymallet.reports.json_object"
    ),
    "jsonl": ReportFormat(
        "programs that read line by line: the run, then a finding a line; its schema ships",
        ".jsonl",
        "keymallet.reports.json_lines",
    ),
    "junit": ReportFormat(
        "pipelines: a rule is a suite, what falls short a failed case", ".xml", "keymallet.reports.junit"
    ),
    "openmetrics": ReportFormat(
        "monitoring: a text file for a collector", ".prom", "keymallet.reports.openmetrics", "reports"
    ),
    "oscal": ReportFormat("auditors' tools: assessment results", ".oscal.json", "keymallet.reports.oscal"),
    "ocsf": ReportFormat(
        "security event pipelines: a compliance finding a line",
        ".ocsf.jsonl",
        "keymallet.reports.security_events",
    ),
    "sarif": ReportFormat(
        "dashboards of code scanning: a finding stands at the file and line its account came from",
        ".sarif",
        "keymallet.reports.sarif",
        placed=True,
    ),
    "set": ReportFormat(
        "receivers of security events: signed tokens (RFC 8417) of what the run changed",
        ".set",
        "keymallet.reports.event_tokens",
        "events",
    ),
    "syslog": ReportFormat("log servers: messages after RFC 5424", ".log", "keymallet.reports.syslog"),
}
"""All formats by the word that `report --format` takes."""
