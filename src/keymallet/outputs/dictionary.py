"""The dictionary of facts as JSON and CSV."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Sequence

import msgspec

from keymallet.core.facts.model import Table


def _records(tables: Sequence[Table]) -> list[dict[str, object]]:
    return [
        {
            "table": table.name,
            "column": column.name,
            "type": column.kind.value,
            "meaning": column.meaning,
            "words": list(column.words),
            "definition": " ".join(column.definition.split()),
        }
        for table in tables
        for column in table.columns
    ]


def to_json(tables: Sequence[Table]) -> str:
    """A list of columns."""
    return msgspec.json.format(msgspec.json.encode(_records(tables))).decode() + "\n"


def to_csv(tables: Sequence[Table]) -> str:
    """One column of a table on each line; words are joined by blanks."""
    records = _records(tables)
    text = io.StringIO()
    writer = csv.DictWriter(text, fieldnames=list(records[0]))
    writer.writeheader()
    for record in records:
        writer.writerow(
            {key: " ".join(value) if isinstance(value, list) else value for key, value in record.items()}
        )
    return text.getvalue()


FORMATS: dict[str, Callable[[Sequence[Table]], str]] = {"json": to_json, "csv": to_csv}
