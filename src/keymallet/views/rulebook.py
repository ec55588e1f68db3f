"""A rulebook that passed its checks, in short."""

from __future__ import annotations

from collections import Counter

from rich.console import Console

from keymallet.core.rulebook import Rulebook, Severity
from keymallet.views.terminal import count, text


def show_checked(out: Console, path: str, book: Rulebook) -> None:
    """Print that the book is in order, what is in it, and what in it nobody uses."""
    edition = f", edition {book.edition}" if book.edition else ""
    out.print(text(f"{book.title}{edition}", "bold"))
    graded = Counter(rule.severity for rule in book.rules)
    grades = ", ".join(
        f"{graded[each]} {each.word}" for each in sorted(Severity, reverse=True) if graded[each]
    )
    limits = count(len(book.limits), "limit")
    out.print(text(f"{path}: {count(len(book.rules), 'rule')} ({grades}), {limits}, no fault"))
    for remark in book.remarks:
        out.print(text(f"  {remark}", "yellow"))
