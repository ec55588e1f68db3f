"""The table of formats a report can have; light, so that options and help can be made from it.

A format is a module with one function, `write(content: Content, look: Look) -> bytes`, and a row here.
"""

from __future__ import annotations

import importlib
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

if TYPE_CHECKING:
    from keymallet.reports.content import Content


class Look(NamedTuple):
    """How a report is to look: a folder with an organisation's own templates and colours, if it has one."""

    templates: Path | None = None


class ReportFormat(NamedTuple):
    """One format: for whom it is, the ending of its files, the extra it needs, and the module that writes it.

    `drawn` says whether it shows pictures, which take judging again; `alone` whether one finding can be told.
    """

    audience: str
    ending: str
    module: str
    extra: str = ""
    drawn: bool = False

    @property
    def write(self) -> Callable[[Content, Look], bytes]:
        """The function that writes it; its module is loaded now."""
        write: Callable[[Content, Look], bytes] = importlib.import_module(self.module).write
        return write


REPORTS: dict[str, ReportFormat] = {
    "page": ReportFormat(
        "managers and auditors: one HTML file, to be read, searched and printed",
        ".html",
        "keymallet.reports.page",
        "reports",
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
        "calendar",
    ),
    "json": ReportFormat(
        "programs: one object, whose schema ships", ".json", "keymallet.reports.json_object"
    ),
    "junit": ReportFormat(
        "pipelines: a rule is a suite, what falls short a failed case", ".xml", "keymallet.reports.junit"
    ),
    "openmetrics": ReportFormat(
        "monitoring: a text file for a collector", ".prom", "keymallet.reports.openmetrics", "reports"
    ),
}
"""All formats by the word that `report --format` takes."""
