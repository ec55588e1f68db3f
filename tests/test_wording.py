"""What people read is plain: none of the words that `docs/vocabulary.md` lists as not used stands anywhere."""

from __future__ import annotations

import ast
import re
import tomllib
from collections.abc import Iterator
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]
LIST = ROOT / "docs/vocabulary.md"
_HEADING = "## Words that are not used"
_SPOKEN = ("title", "advice", "reason", "meaning", "safeguards")


def unused() -> list[str]:
    """The words on the right of the list."""
    rows = LIST.read_text("utf-8").partition(_HEADING)[2].splitlines()
    cells = [row.split("|")[2] for row in rows if row.startswith("|") and not row.startswith("|--")]
    return [word.strip() for cell in cells[1:] for word in cell.split(",")]


def pages() -> Iterator[tuple[str, str]]:
    """The README and the pages beside it; decisions are kept as they were taken."""
    yield "README.md", (ROOT / "README.md").read_text("utf-8")
    for page in sorted((ROOT / "docs").rglob("*.md")):
        if "decisions" not in page.parts:
            yield str(page.relative_to(ROOT)), page.read_text("utf-8").partition(_HEADING)[0]


def spoken_in_code() -> Iterator[tuple[str, str]]:
    """Texts in the code that people may come to read: all but what explains the code itself."""
    for file in sorted((ROOT / "src").rglob("*.py")):
        tree = ast.parse(file.read_text("utf-8"))
        # What describes a command is shown by --help.
        shown = "commands/arguments" in str(file)
        for node in ast.walk(tree):
            if isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant) and not shown:
                node.value.value = ""
        for node in ast.walk(tree):
            if isinstance(node, ast.Constant) and isinstance(node.value, str) and " " in node.value:
                yield f"{file.relative_to(ROOT)}:{node.lineno}", node.value


def spoken_in_rulebooks() -> Iterator[tuple[str, str]]:
    """Titles, advice and reasons of all that ships."""
    for file in sorted((ROOT / "src").rglob("*.toml")):
        yield from _texts(str(file.relative_to(ROOT)), tomllib.loads(file.read_text("utf-8")))


def _texts(where: str, value: object) -> Iterator[tuple[str, str]]:
    if isinstance(value, dict):
        for name, inner in value.items():
            if name in _SPOKEN and isinstance(inner, str):
                yield f"{where}: {name}", inner
            yield from _texts(f"{where}: {name}", inner)
    if isinstance(value, list):
        for inner in value:
            yield from _texts(where, inner)


@pytest.mark.parametrize(
    "texts", [pages, spoken_in_code, spoken_in_rulebooks], ids=lambda each: each.__name__
)
def test_words_that_are_not_used_stand_nowhere(texts: object) -> None:
    """Each with where it stands."""
    assert callable(texts)
    words = unused()
    assert len(words) > 30
    pattern = re.compile("|".join(rf"\b{re.escape(word)}\b" for word in words), re.IGNORECASE)
    found = [
        f"{where}: {hit[0]!r} in {' '.join(text.split())[max(0, hit.start() - 60) : hit.end() + 60]!r}"
        for where, text in texts()
        for hit in pattern.finditer(text)
    ]
    assert not found, "\n".join(found)
