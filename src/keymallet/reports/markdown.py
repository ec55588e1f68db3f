"""A report as Markdown (CommonMark with tables), for tickets and wikis."""

from __future__ import annotations

import re
from typing import Any

from keymallet.core.base.listing import how_many
from keymallet.core.base.printable import plain
from keymallet.reports.content import Content, basis, due_in_words, moment, who
from keymallet.reports.registry import Look

_MARKS = re.compile(r"([\\`*_{}\[\]<>#|~!&@$]|:(?=//)|(?<=www)\.|^[-+=]|(?<=^\d)[.)])")


def write(content: Content, look: Look) -> bytes:
    """One text: the verdict, what changed, each finding with what to do, and what it rests on."""
    lines = [f"# {_text(content.organisation)}: {_text(content.rulebook)}", ""]
    if content.gaps:
        lines += [f"> **The evidence is incomplete.** {_listed(content.gaps)}", ""]
    lines += [f"**{_text(content.verdict())}** Judged at {_text(moment(content.at, content.clock))}.", ""]
    if content.narrowed:
        lines += [f"Only {_text(', '.join(content.narrowed))}.", ""]
    if content.before and content.states():
        number, at = content.before
        told = ", ".join(f"{count:,} {state}" for state, count in content.states().items())
        lines += [f"Since run {number} of {_text(moment(at, content.clock))}: {told}.", ""]
    rows = list(content.findings.iter_rows(named=True))
    if len(rows) == 1:
        lines += _one(rows[0], content)
    elif rows:
        lines += _table(rows, content)
    lines += ["## What it rests on", "", "| | |", "|---|---|"]
    lines += [f"| {_text(what)} | {_text(value)} |" for what, value in basis(content)]
    return ("\n".join(lines) + "\n").encode()


def _one(row: dict[str, Any], content: Content) -> list[str]:
    """One finding, with all there is to say of it: the text of a ticket."""
    facts = [
        ("severity", row["severity"]),
        ("account", who(row)),
        ("of", " · ".join(str(row[name]) for name in ("display", "unit") if row[name])),
        ("state", row["state"]),
        ("first seen", moment(row["first-seen"], content.clock) if row["first-seen"] else ""),
        ("due", moment(row["due"], content.clock) if row["due"] else ""),
        ("past due by", how_many(row["late-by"].days, "day") if row["late-by"] else ""),
        ("answers for it", row["answerer"] or ""),
        ("finding", row["finding-id"]),
    ]
    lines = [f"## {_text(row['title'])}", "", "| | |", "|---|---|"]
    lines += [f"| {_text(what)} | {_text(value)} |" for what, value in facts if value]
    lines += ["", f"**Why:** {_text(row['because'] or 'no reason is known')}", ""]
    if row["change"]:
        lines += [f"**To do:** {_text(row['change'])}", ""]
    for rule in content.rules:
        if rule.id == row["rule"]:
            lines += [f"{_text(rule.advice)}", ""] if rule.advice else []
            lines += [f"Rule `{_code(rule.id)}`: {_text(rule.who)} must {_text(rule.must)}", ""]
            lines += [f"After {_text(', '.join(rule.cite))}", ""] if rule.cite else []
    return lines


def _table(rows: list[dict[str, Any]], content: Content) -> list[str]:
    lines = ["| severity | what | on | why | to do | when | whose |", "|---|---|---|---|---|---|---|"]
    for row in rows:
        cells = (
            row["severity"],
            row["title"],
            who(row),
            row["because"],
            row["change"],
            due_in_words(row, content.clock) or row["state"],
            row["answerer"],
        )
        lines.append(f"| {' | '.join(_text(cell) for cell in cells)} |")
    return [*lines, ""]


def _listed(gaps: tuple[str, ...]) -> str:
    return _text("; ".join(gaps))


def _text(value: object) -> str:
    """Text that means nothing to Markdown, HTML or a terminal, on one line."""
    return _MARKS.sub(r"\\\1", plain("" if value is None else value))


def _code(value: str) -> str:
    return plain(value).replace("`", "'")
