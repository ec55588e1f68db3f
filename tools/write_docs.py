"""Writes those parts of docs/ that follow from the code: schemas, the dictionary of facts, functions.

With --check nothing is written; what is out of date is named, and the exit code is 1.
"""

from __future__ import annotations

import json
import re
import sys
from collections.abc import Callable, Iterable
from pathlib import Path

from keymallet.core.facts.declaration import TABLES
from keymallet.core.facts.model import Column
from keymallet.core.facts.scim_extension import json_schema
from keymallet.core.language.functions import FUNCTIONS, Function

DOCS = Path(__file__).parent.parent / "docs"


def scim_schema(_: str) -> str:
    """The JSON Schema of our extension of SCIM users, made of the declaration of facts."""
    return json.dumps(json_schema(), indent=2) + "\n"


def dictionary(_: str) -> str:
    """Every table and column, as a page."""
    parts = [
        "# The dictionary of facts\n\nAll that rules can ask about, table by table; `keymallet dictionary` "
        "prints the same.\nThis page is made from the code by `make schema`.\n"
    ]
    for table in TABLES.values():
        parts.append(f"\n## {table.name}: {table.meaning}\n\n| column | type | meaning |\n|---|---|---|\n")
        parts += [_row(column) for column in table.columns]
    return "".join(parts)


def _row(column: Column) -> str:
    meaning = column.meaning
    if column.words:
        meaning += ": " + " · ".join(column.words)
    if column.definition:
        meaning += f"; {column.derivation.value}: `{' '.join(column.definition.split())}`"
    if column.across:
        meaning += " (worked out when sources are read)"
    return f"| `{column.name}` | {column.kind.value} | {meaning.replace('|', chr(92) + '|')} |\n"


def functions(page: str) -> str:
    """The page on rulebooks with its list of functions anew."""
    public = [function for function in FUNCTIONS.values() if not function.internal]
    return _between(page, "functions", map(_function, public))


def _function(function: Function) -> str:
    takes = "a, b, …" if function.many else "x"
    return f"- `{function.name}({takes})`: {function.meaning}; like `{function.example}`\n"


def _between(page: str, name: str, lines: Iterable[str]) -> str:
    """The page with other lines between its two marks of that name."""
    marks = re.compile(rf"(<!-- {name}: made by make schema -->\n).*?(<!-- end of {name} -->\n)", re.DOTALL)
    made, number = marks.subn(lambda match: match[1] + "".join(lines) + match[2], page)
    assert number == 1, f"the marks of {name} stand once in the page"
    return made


PAGES: dict[str, Callable[[str], str]] = {
    "scim-extension.schema.json": scim_schema,
    "dictionary.md": dictionary,
    "rulebook.md": functions,
}
"""Each file with what makes it out of what stands there."""


def main(arguments: list[str]) -> int:
    """Write what is out of date, or only name it."""
    stale = []
    for name, make in PAGES.items():
        path = DOCS / name
        before = path.read_text("utf-8") if path.exists() else ""
        after = make(before)
        if after != before:
            stale.append(name)
            if "--check" not in arguments:
                path.write_text(after, "utf-8")
    if "--check" in arguments:
        for name in stale:
            print(f"docs/{name} is out of date: run make schema")
        return 1 if stale else 0
    print(f"written: {', '.join(stale) or 'nothing was out of date'}")
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
