"""Faults a person can mend, shown in one form: place, the line itself, a caret, what to do."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterable
from typing import TextIO

from keymallet.core.base.listing import and_more
from keymallet.core.base.printable import plain
from keymallet.core.base.problems import Excerpt, Problem

WIDTH = 100
MOST_SHOWN = 100


def show_problems(problems: Iterable[Problem], stream: TextIO | None = None) -> None:
    """Print problems to standard error; at most 100, then how many more there are."""
    stream = stream or sys.stderr
    listed = list(problems)
    red, bold, end = ("\x1b[31m", "\x1b[1m", "\x1b[0m") if _coloured(stream) else ("", "", "")
    for problem in listed[:MOST_SHOWN]:
        said = plain(problem.message) + (f"; {plain(problem.hint)}" if problem.hint else "")
        place = plain(problem.place) if problem.place else "keymallet"
        if problem.excerpt is None:
            print(f"{bold}{place}{end}: {said}", file=stream)
            continue
        line, caret = _marked(problem.excerpt)
        print(f"{bold}{place}{end}\n    {line}", file=stream)
        # The message follows the caret where there is room for it, else it has the line below.
        if len(caret) + len(said) < WIDTH - 4:
            print(f"    {red}{caret}{end} {said}\n", file=stream)
        else:
            print(f"    {red}{caret}{end}\n    {said}\n", file=stream)
    if len(listed) > MOST_SHOWN:
        print(and_more(len(listed) - MOST_SHOWN), file=stream)
    if len(listed) > 1:
        print(f"{len(listed):,} faults", file=stream)


def _marked(excerpt: Excerpt) -> tuple[str, str]:
    """The line, cut to fit around the marked part, and the carets below it."""
    room = WIDTH - 8
    text = excerpt.line.replace("\t", " ")
    start, length = excerpt.start, max(excerpt.length, 1)
    if len(text) > room:
        first = max(0, min(start - room // 3, len(text) - room))
        lead = "…" if first else ""
        tail = "…" if first + room < len(text) else ""
        text = lead + text[first + len(lead) : first + room - len(tail)] + tail
        start -= first
        length = min(length, room - start)
    before, marked = plain(text[:start]), plain(text[start : start + length])
    return before + marked + plain(text[start + length :]), " " * len(before) + "^" * max(len(marked), 1)


def _coloured(stream: TextIO) -> bool:
    return stream.isatty() and not os.environ.get("NO_COLOR") and os.environ.get("TERM") != "dumb"
