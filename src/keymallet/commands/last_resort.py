"""What is left to do when a fault of the program itself, or of the machine, has ended a command.

Such an end is never to be mistaken for a verdict: its code is that of a request that could not be carried
out, and one sentence says why.
"""

from __future__ import annotations

import errno
import os
import platform
import tempfile
import traceback
from collections.abc import Sequence
from types import TracebackType

from keymallet import __version__


def sentence(error: BaseException, words: Sequence[str]) -> str:
    """Why the command came to nothing, in one sentence; for a fault of the program, with a report file."""
    if isinstance(error, MemoryError):
        return "there is not enough memory for this"
    if isinstance(error, OSError):
        reason = error.strerror or str(error)
        if error.errno in (errno.ENOSPC, errno.EDQUOT):
            return f"nothing more can be written: {reason}"
        return f"the system refused something that was needed: {reason}{_named(error)}"
    return f"a fault of keymallet itself has ended this ({type(error).__name__}); {_told_of(error, words)}"


def _named(error: OSError) -> str:
    return f": {error.filename}" if error.filename else ""


def _told_of(error: BaseException, words: Sequence[str]) -> str:
    """Where a report of it is, for whoever mends it."""
    try:
        handle, file = tempfile.mkstemp(prefix="keymallet-fault-", suffix=".txt")
        with os.fdopen(handle, "w", encoding="utf-8") as report:
            report.write(_report(error, words))
    except OSError:
        return "no report of it could be written"
    return f"please send us {file}"


def _report(error: BaseException, words: Sequence[str]) -> str:
    """Versions, the command, and places in the code; no value and no message: they might hold a secret."""
    command = " ".join(word for word in words[:2] if not word.startswith("-"))
    return "\n".join(
        [
            f"keymallet {__version__}, Python {platform.python_version()}, {platform.platform()}",
            f"command: {command}",
            f"fault: {type(error).__name__} (its message is left out: it might quote a secret)",
            "",
            *_places(error.__traceback__),
            "",
        ]
    )


def _places(trace: TracebackType | None) -> list[str]:
    return [f"{frame.filename}:{frame.lineno} {frame.name}" for frame in traceback.extract_tb(trace)]
