"""The one exception family for what a person can mend.

Code that finds a fault makes a `Problem`; several are collected and raised together as one
`KeymalletError`. Only the command layer prints them.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Place:
    """Where a problem stands. Lines and columns count from 1; 0 means not known."""

    file: str
    line: int = 0
    column: int = 0
    item: str = ""

    def __str__(self) -> str:
        """Give `file:line:column  item`, as far as it is known."""
        text = self.file
        if self.line:
            text += f":{self.line}"
            if self.column:
                text += f":{self.column}"
        return f"{text}  {self.item}" if self.item else text


@dataclass(frozen=True, slots=True)
class Excerpt:
    """One line of somebody's own text, and the part of it a caret has to mark (0-based)."""

    line: str
    start: int
    length: int


@dataclass(frozen=True, slots=True)
class Problem:
    """One fault: what is wrong, where, the text itself, and what to do about it."""

    message: str
    place: Place | None = None
    excerpt: Excerpt | None = None
    hint: str = ""


class KeymalletError(Exception):
    """Stops the work at hand; carries every problem found, in the order of their places."""

    def __init__(self, problems: Problem | Iterable[Problem]) -> None:
        self.problems = (problems,) if isinstance(problems, Problem) else tuple(problems)
        super().__init__("; ".join(problem.message for problem in self.problems))

    def __reduce__(self) -> tuple[type[KeymalletError], tuple[tuple[Problem, ...]]]:
        """How it passes from one process to another."""
        return type(self), (self.problems,)


def fail(message: str, *, file: str = "", line: int = 0, column: int = 0, hint: str = "") -> KeymalletError:
    """Make the error for a single problem, to be raised by the caller."""
    place = Place(file, line, column) if file else None
    return KeymalletError(Problem(message, place, hint=hint))


def in_one_line(problem: Problem) -> str:
    """The problem as a note: its place, what is wrong, what to do."""
    where = f"{problem.place}: " if problem.place else ""
    hint = f"; {problem.hint}" if problem.hint else ""
    return f"{where}{problem.message}{hint}"
