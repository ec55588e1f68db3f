"""A report as CSV (RFC 4180), with metadata beside it (CSV on the Web) that says what each column means."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import msgspec

from keymallet.outputs.formats import FORMATS
from keymallet.outputs.values import OutputRows
from keymallet.reports import rows
from keymallet.reports.content import Content, basis
from keymallet.reports.registry import Look

_ENDING = "-metadata.json"
"""What CSV on the Web asks for behind the name of the file."""


def write(content: Content, look: Look) -> Iterator[bytes]:
    """A row a finding; for a spreadsheet nothing is taken for a formula."""
    return FORMATS["csv"].write(OutputRows(rows.tables(content), {}, "findings", look.spreadsheet))


def beside(content: Content, look: Look) -> dict[str, bytes]:
    """The metadata (Metadata Vocabulary for Tabular Data, W3C 2015), with what the report rests on."""
    told = {
        "@context": ["http://www.w3.org/ns/csvw", {"@language": "en"}],
        "url": look.name,
        "dc:title": f"{content.organisation}: {content.rulebook}",
        "dc:description": content.verdict(),
        "notes": [{"what": what, "value": value} for what, value in _notes(content)],
        "dialect": {"encoding": "utf-8", "lineTerminators": ["\r\n"]},
        "tableSchema": {
            "columns": [_column(name, said) for name, said in rows.MEANINGS.items()],
            "primaryKey": "finding_id",
        },
    }
    return {look.name + _ENDING: msgspec.json.format(msgspec.json.encode(told)) + b"\n"}


def _notes(content: Content) -> list[tuple[str, str]]:
    told = list(basis(content))
    told += [("the evidence is incomplete", gap) for gap in content.gaps]
    return told + [("limited to", said) for said in content.narrowed]


def _column(name: str, said: str) -> dict[str, Any]:
    column: dict[str, Any] = {"name": name.replace("-", "_"), "titles": name, "dc:description": said}
    if name in rows.instants():
        column["datatype"] = "dateTime"
    elif name in rows.numbers():
        column["datatype"] = {"base": "integer", "minimum": 0}
    else:
        column["datatype"] = "string"
    if name in ("finding-id", "rule", "state"):
        column["required"] = True
    return column
