"""The size of the house in a few figures: files, functions, what is typed, what is commented.

Prints one row of a Markdown table for each folder given, as docs/measured.md shows them.
"""

from __future__ import annotations

import ast
import io
import statistics
import sys
import tokenize
from dataclasses import dataclass, field
from pathlib import Path

HEAD = (
    "| folder | files | lines | longest file | functions | median lines | nine in ten | typed | "
    "comments per 100 lines |\n|---|---|---|---|---|---|---|---|---|"
)


@dataclass
class Sizes:
    """What was counted in one folder."""

    files: list[int] = field(default_factory=list)
    functions: list[int] = field(default_factory=list)
    typed: int = 0
    comments: int = 0
    code: int = 0

    def add(self, path: Path) -> None:
        """Count one file."""
        text = path.read_text("utf-8")
        self.files.append(text.count("\n"))
        for node in ast.walk(ast.parse(text)):
            if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
                self.functions.append((node.end_lineno or node.lineno) - node.lineno + 1)
                self.typed += is_typed(node)
        for token in tokenize.generate_tokens(io.StringIO(text).readline):
            if token.type == tokenize.COMMENT and not is_pragma(token.string):
                self.comments += 1
        self.code += sum(bool(line.strip()) for line in text.splitlines())

    def row(self, name: str) -> str:
        """The row of the table."""
        lengths = sorted(self.functions)
        tenth = lengths[int(len(lengths) * 0.9)]
        return (
            f"| {name} | {len(self.files)} | {sum(self.files):,} | {max(self.files)} | {len(lengths):,} | "
            f"{statistics.median(lengths):.0f} | {tenth} | {self.typed / len(lengths):.0%} | "
            f"{100 * self.comments / self.code:.1f} |"
        )


def is_typed(node: ast.FunctionDef | ast.AsyncFunctionDef) -> bool:
    """Whether every argument and the result have a type."""
    taken = node.args
    named = [*taken.posonlyargs, *taken.args, *taken.kwonlyargs, *filter(None, (taken.vararg, taken.kwarg))]
    own = [argument for argument in named if argument.arg not in ("self", "cls")]
    return node.returns is not None and all(argument.annotation for argument in own)


def is_pragma(comment: str) -> bool:
    """A comment for a tool, not for people."""
    return comment.startswith(("# fmt:", "# type:", "# noqa", "#!"))


def main(folders: list[str]) -> None:
    """Print the table."""
    print(HEAD)
    for folder in folders:
        sizes = Sizes()
        for path in sorted(Path(folder).rglob("*.py")):
            sizes.add(path)
        print(sizes.row(folder))


if __name__ == "__main__":
    main(sys.argv[1:])
