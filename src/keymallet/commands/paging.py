"""A pager for what is longer than the screen; only on a terminal, and never where questions are asked."""

from __future__ import annotations

import io
import os
import shutil
import signal
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager, redirect_stdout
from typing import cast

_NOT_FOUND = 127
"""What a shell ends with where there is no such program."""


class _Held(io.TextIOWrapper):
    """Standard output that is kept until all has been said; it is what it stands for to whoever asks."""

    def __init__(self) -> None:
        # Bytes that are written past the text have to come where they were written.
        super().__init__(
            io.BytesIO(),
            encoding=sys.stdout.encoding,
            errors="backslashreplace",
            newline="",
            write_through=True,
        )

        self._is_terminal = sys.stdout.isatty()

    def isatty(self) -> bool:
        return self._is_terminal

    def told(self) -> bytes:
        """All that was said so far."""
        self.flush()
        return cast(bytes, self.buffer.getvalue())  # type: ignore[attr-defined]

    def fileno(self) -> int:
        return sys.__stdout__.fileno() if sys.__stdout__ else 1


def pager() -> str | None:
    """The command of the pager: that of PAGER, else `less`; None if there shall be none, or can be none."""
    if not sys.stdout.isatty() or os.environ.get("TERM", "dumb") == "dumb":
        return None
    named = os.environ.get("PAGER")
    if named is None:
        return next((name for name in ("less", "more") if shutil.which(name)), None)
    return None if named.strip() in ("", "cat") else named


@contextmanager
def paged(wanted: bool) -> Iterator[None]:
    """Keep what is printed meanwhile; if it is longer than the screen, show it in the pager, else print it.

    The pager's end does not change how the command ends. What was said before a failure is shown as well.
    """
    command = pager() if wanted else None
    if command is None:
        yield
        return
    held = _Held()
    try:
        with redirect_stdout(held):
            yield
    finally:
        _show(held.told(), command)


@contextmanager
def first_lines(most: int) -> Iterator[list[int]]:
    """Print only so many lines of what is printed meanwhile; the list then has how many were left out."""
    held, left_out = _Held(), [0]
    try:
        with redirect_stdout(held):
            yield left_out
    finally:
        lines = held.told().splitlines(keepends=True)
        left_out[0] = max(len(lines) - most, 0)
        sys.stdout.buffer.write(b"".join(lines[:most]))
        sys.stdout.flush()


def _show(text: bytes, command: str) -> None:
    stopped = isinstance(sys.exception(), KeyboardInterrupt)
    if stopped or text.count(b"\n") < shutil.get_terminal_size().lines or not _in_pager(text, command):
        sys.stdout.buffer.write(text)
        sys.stdout.flush()


def _in_pager(text: bytes, command: str) -> bool:
    """Whether the pager could be started. What an interrupt means there is for the pager to say."""
    # Colours come through whatever else somebody has set; what was shown stays on the screen by default.
    less = f"-R {os.environ['LESS']}" if os.environ.get("LESS") else "RX"
    environment = {"LV": "-c", **os.environ, "LESS": less}
    before = signal.signal(signal.SIGINT, signal.SIG_IGN)
    try:
        with subprocess.Popen(
            command, shell=True, stdin=subprocess.PIPE, env=environment, restore_signals=True,
            preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),
        ) as shown:  # fmt: skip
            shown.communicate(text)
        return shown.returncode != _NOT_FOUND
    except OSError:
        return False
    finally:
        signal.signal(signal.SIGINT, before)
