"""How far long work has come: a bar for each source on standard error, gone when all is done."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from contextlib import contextmanager
from threading import Lock

from rich.console import Console
from rich.progress import BarColumn, Progress, ProgressColumn, Task, TaskID, TextColumn, TimeRemainingColumn
from rich.text import Text

from keymallet.core.base.printable import plain


class Count(ProgressColumn):
    """`1,200 of 40,000 users`, as far as that is known."""

    def render(self, task: Task) -> Text:
        """The count, or that it is being read."""
        noun = task.fields["noun"]
        if not noun:
            return Text("reading …" if not task.finished else "read", "dim")
        total = f" of {int(task.total):,}" if task.total else ""
        return Text(f"{int(task.completed):,}{total} {noun}")


class Bars:
    """Shows the sources that are being read, each with its count and the time left."""

    def __init__(self, shown: Progress) -> None:
        self._shown = shown
        self._tasks: dict[str, TaskID] = {}
        self._lock = Lock()

    def started(self, source: str) -> None:
        """A source has begun."""
        with self._lock:
            self._tasks[source] = self._shown.add_task(plain(source), total=None, noun="")

    def advanced(self, source: str, done: int, total: int | None, noun: str) -> None:
        """So many are read, of so many if that is known."""
        self._shown.update(self._tasks[source], completed=done, total=total, noun=noun)

    def ended(self, source: str) -> None:
        """A source has come to its end."""
        task = self._tasks[source]
        self._shown.update(task, total=max(self._shown.tasks[task].completed, 1), refresh=True)
        self._shown.stop_task(task)


@contextmanager
def bars() -> Iterator[Bars]:
    """Bars on standard error while something is read."""
    columns = (
        TextColumn("{task.description}"),
        BarColumn(24, complete_style="cyan", finished_style="green", pulse_style="cyan"),
        Count(),
        TimeRemainingColumn(compact=True),
    )
    out = Console(file=sys.stderr, highlight=False, emoji=False, markup=False)
    with Progress(*columns, console=out, transient=True) as shown:
        yield Bars(shown)
