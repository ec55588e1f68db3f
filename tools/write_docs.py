"""Writes those parts of docs/ that follow from the code: schemas, the dictionary of facts, functions.

With --check nothing is written; what is out of date is named, and the exit code is 1.
"""

from __future__ import annotations

import json
import re
import sys
from collections.abc import Callable, Iterable, Iterator
from functools import partial
from pathlib import Path

from keymallet.core.explaining.wording import constant_text
from keymallet.core.facts.declaration import TABLES
from keymallet.core.facts.model import Column
from keymallet.core.facts.scim_extension import json_schema
from keymallet.core.language import typed
from keymallet.core.language.functions import FUNCTIONS, Function
from keymallet.core.language.typed import Typed
from keymallet.core.rulebook.model import Demand, Rule
from keymallet.core.rulebook.reading import read_rulebook
from keymallet.sources.rulebooks import open_included, shipped, shipped_text

STANDARDS = [name for name in shipped() if name not in ("base", "new-accounts")]
DOCS = Path(__file__).parent.parent / "docs"


def scim_schema(_: str) -> str:
    """The JSON Schema of our extension of SCIM users, made of the declaration of facts."""
    return json.dumps(json_schema(), indent=2) + "\n"


_DICTIONARY = """# The dictionary of facts

All that rules can ask about, table by table; `keymallet dictionary` prints the same.
What a fact is spoken as in reasons stands last: of a yes or no both; of an instant one that is past, one to
come, none; of a number one, several, none. This page is made from the code by `make schema`.
"""
_HEAD = "| column | type | meaning | spoken as |\n|---|---|---|---|\n"


def dictionary(_: str) -> str:
    """Every table and column, as a page."""
    parts = [_DICTIONARY]
    for table in TABLES.values():
        parts.append(f"\n## {table.name}: {table.meaning}\n\n{_HEAD}")
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
    meaning = meaning.replace("|", "\\|")
    return f"| `{column.name}` | {column.kind.value} | {meaning} | {column.said.replace('{}', '…')} |\n"


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


def standard(name: str) -> str:
    """One standard's requirements: which rule is for each, on whom, and what is not judged."""
    book = read_rulebook(shipped_text(name), name, open_included)
    rows: dict[str, list[str]] = {}
    for demand in book.demands:
        for cite in demand.cite:
            rows.setdefault(cite, []).append(_requirement(demand))
    left = [f"| {each.cite} | {each.asks} | {each.why} |\n" for each in book.not_judged]
    notes = [f"- `{demand.id}`: {demand.note}\n" for demand in book.demands if demand.note]
    parts = [
        f"# {book.title}\n\nMade from the rulebook `{name}` by `make schema`. In our own words, from ",
        "knowledge of the standard; its own text decides.\n\n",
        "| requirement | rule | severity | on whom |\n|---|---|---|---|\n",
        *(f"| {cite} | {row}" for cite in sorted(rows, key=_in_numbers) for row in rows[cite]),
    ]
    parts += ["\n## To hold against the text\n\n", *notes] if notes else []
    parts += ["\n## Not judged\n\n| requirement | asks | why not |\n|---|---|---|\n", *left] if left else []
    return "".join(parts)


def _requirement(demand: Demand) -> str:
    scope = demand.who.text if isinstance(demand, Rule) else demand.expressions[0].text
    each = "" if demand.table == "account" else f"each {demand.table}: "
    whom = f"{each}`{scope}`" if scope != "true" else each.rstrip(": ") or "every account"
    return f"`{demand.id}`: {demand.title} | {demand.severity.word} | {whom.replace('|', chr(92) + '|')} |\n"


def _in_numbers(text: str) -> list[tuple[int, str]]:
    """So that 8.3.10 comes after 8.3.9."""
    return [(int(part), "") if part.isdigit() else (0, part) for part in re.split(r"(\d+)", text)]


def _standard_page(name: str, _: str) -> str:
    return standard(name)


def crosswalk(_: str) -> str:
    """The standards that ship side by side: by what their rules ask of, which rule with which figure."""
    asked: dict[str, dict[str, list[str]]] = {}
    for name in STANDARDS:
        book = read_rulebook(shipped_text(name), name, open_included)
        for demand in book.demands:
            asked.setdefault(_about(demand), {}).setdefault(name, []).append(_with_figures(demand))
    several = {about: cells for about, cells in asked.items() if len(cells) > 1}
    rows = [
        f"| {about} | " + " | ".join("<br>".join(cells.get(name, ["–"])) for name in STANDARDS) + " |\n"
        for about, cells in sorted(several.items())
    ]
    head = (
        "# What the standards ask of the same facts\n\nMade from the rulebooks by `make schema`: rules of "
        "two standards or more that ask of the same facts, with their figures.\n\n"
    )
    columns = f"| asks of | {' | '.join(STANDARDS)} |\n|{'---|' * (len(STANDARDS) + 1)}\n"
    return head + columns + "".join(rows)


def _about(demand: Demand) -> str:
    """The facts that a rule's demand rests on, as they stand in it."""
    demanded = demand.must if isinstance(demand, Rule) else demand.expressions[0]
    return ", ".join(f"`{name}`" for name in sorted(dict.fromkeys(_named(demanded))))


def _named(node: Typed) -> Iterator[str]:
    if isinstance(node, typed.Derived):
        yield f"{node.fact.table}.{node.fact.column.name}"
        return
    if isinstance(node, typed.Fact):
        yield f"{node.table}.{node.column.name}"
    for part in node.parts:
        yield from _named(part)


def _with_figures(demand: Demand) -> str:
    demanded = demand.must if isinstance(demand, Rule) else demand.expressions[0]
    figures = dict.fromkeys(
        constant_text(part)
        for part in demanded.walk()
        if isinstance(part, typed.Const | typed.ConstList) and part.limit
    )
    return f"`{demand.id}`" + (f" {' · '.join(figures)}" if figures else "")


PAGES: dict[str, Callable[[str], str]] = {
    "scim-extension.schema.json": scim_schema,
    "dictionary.md": dictionary,
    "rulebook.md": functions,
    **{f"standards/{name}.md": partial(_standard_page, name) for name in STANDARDS},
    "standards/crosswalk.md": crosswalk,
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
                path.parent.mkdir(exist_ok=True)
                path.write_text(after, "utf-8")
    if "--check" in arguments:
        for name in stale:
            print(f"docs/{name} is out of date: run make schema")
        return 1 if stale else 0
    print(f"written: {', '.join(stale) or 'nothing was out of date'}")
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
