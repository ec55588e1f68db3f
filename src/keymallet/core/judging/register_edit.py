"""Edits of a register's text that leave comments, order and everything else in it as it stands.

What must not get in is refused here: an approval of one's own, no end, a reason that says nothing.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterable, Sequence
from datetime import UTC, datetime
from typing import Any
from zoneinfo import ZoneInfo

import polars as pl
import tomlkit
from tomlkit.items import AoT, Table

from keymallet.core.base.problems import Problem, fail
from keymallet.core.judging.exemptions import covers_rule, matching
from keymallet.core.judging.register_facts import approves_itself
from keymallet.core.language.literals import span_text
from keymallet.core.linking.filler_reasons import is_filler
from keymallet.core.rulebook.register import Exemption, Term

EMERGENCY = "emergency"


def faults_of(entry: Exemption, accounts: pl.DataFrame, rules: Iterable[str], at: datetime) -> list[Problem]:
    """Why an entry cannot be added as it is; empty if it can. `accounts` has account, name, mail, person."""
    problems = []
    members = matching(accounts["account"], entry.accounts).arg_true()
    if entry.kind != EMERGENCY and entry.end is None:
        problems.append(
            Problem("an exemption needs an end", hint="--until 2027-03-01, the first day without it")
        )
    if entry.end is not None and entry.end <= max(at, entry.start or at):
        problems.append(Problem("it would be over already", hint="--until names a day that is still to come"))
    if not entry.approved_by or not entry.asked_by:
        hint = "--asked-by and --approved-by, two people"
        problems.append(Problem("it has to say who asked for it, and who approved it", hint=hint))
    elif approves_itself(entry, accounts, members):
        message = f"{entry.approved_by} asked for it, or is covered by it, and cannot approve it"
        problems.append(Problem(message, hint="have somebody else approve it"))
    if is_filler(pl.Series([entry.reason])).item():
        hint = "a sentence for somebody who was not there: four words at least"
        problems.append(Problem(f'"{entry.reason}" is no reason', hint=hint))
    for pattern in entry.accounts:
        if not matching(accounts["account"], (pattern,)).any():
            problems.append(
                Problem(f'no account is called like "{pattern}"', hint="source/name, with * and ?")
            )
    ids = list(rules)
    for pattern in entry.rules:
        if not any(covers_rule(Exemption("", "", (), (pattern,)), rule) for rule in ids):
            problems.append(
                Problem(f'no rule is called like "{pattern}"', hint="keymallet rules show lists them")
            )
    return problems


def added(text: str, entries: Sequence[Exemption], clock: ZoneInfo, decided: datetime | None = None) -> str:
    """The register with more entries at its end, decided at an instant; all else stays, to the letter.

    Raises KeymalletError where no entry can follow: the others stand in a single inline table.
    """
    before = f"{text.rstrip()}\n\n" if text.strip() else ""
    written = "\n".join(_entry_text(entry, clock, decided) for entry in entries)
    edited = _with_line_ends_of(text, before + written)
    try:
        tomllib.loads(edited)
    except tomllib.TOMLDecodeError:
        hint = "write each as a table of its own: [exemption.some-id]"
        raise fail(
            "the entries stand in one inline table, which nothing can be added to", hint=hint
        ) from None
    return edited


def _entry_text(entry: Exemption, clock: ZoneInfo, decided: datetime | None) -> str:
    table = tomlkit.table()
    values: dict[str, Any] = {
        "kind": entry.kind,
        "accounts": list(entry.accounts),
        "rules": list(entry.rules),
        "gates": list(entry.gates),
        "reason": entry.reason,
        "asked-by": entry.asked_by,
        "approved-by": entry.approved_by,
        "decided": _written(decided, clock),
        "from": _written(entry.start, clock),
        "until": _written(entry.end, clock),
        "reviewed": _written(entry.reviewed, clock),
        "review-every": _span(entry),
        "matched": entry.matched,
        "watch": list(entry.watch),
        "safeguards": entry.safeguards,
    }
    for key, value in values.items():
        if value not in (None, "", []):
            table.add(key, value)
    document = tomlkit.document()
    document.add("exemption", tomlkit.table(is_super_table=True).add(entry.id, table))
    return tomlkit.dumps(document)


def _with_line_ends_of(before: str, after: str) -> str:
    """The text, with the line ends of another one where those are all alike."""
    if "\r\n" not in before or before.count("\r\n") < before.count("\n"):
        return after
    return after.replace("\r\n", "\n").replace("\n", "\r\n")


def reviewed(text: str, entry: Exemption, clock: ZoneInfo, on: datetime, *, drilled: datetime | None) -> str:
    """The register with a review of one entry, and with one more drill where there was one."""
    document = tomlkit.parse(text)
    table: Any = document["exemption"]
    mine = table[entry.id]
    mine["reviewed"] = _written(on, clock)
    if drilled is not None:
        before = mine.get("drilled", [])
        days = [*(before if isinstance(before, list) else [before]), _written(drilled, clock)]
        mine["drilled"] = days if len(days) > 1 else days[0]
    return _with_line_ends_of(text, tomlkit.dumps(document))


def with_term(text: str, entry: str, term: Term, clock: ZoneInfo) -> str:
    """The register with one more term in an entry: what held before stays written as it was."""
    document = tomlkit.parse(text)
    table: Any = document["exemption"]
    values = {
        "decided": _written(term.decided, clock),
        "approved-by": term.approved_by,
        "from": _written(term.start, clock),
        "until": _written(term.end, clock),
        "matched": term.matched,
    }
    _append(table[entry], "term", values, several=not _is_dotted(text, entry))
    return _with_line_ends_of(text, tomlkit.dumps(document))


def with_use(
    text: str, entry: str, at: datetime, until: datetime | None, by: str, reason: str, clock: ZoneInfo
) -> str:
    """The register with one more use of what an entry covers."""
    document = tomlkit.parse(text)
    table: Any = document["exemption"]
    values = {"at": at.astimezone(UTC), "until": until and until.astimezone(UTC), "by": by, "reason": reason}
    _append(table[entry], "used", values, several=not _is_dotted(text, entry))
    return _with_line_ends_of(text, tomlkit.dumps(document))


def _append(mine: Any, name: str, values: dict[str, Any], *, several: bool) -> None:
    """One more of what an entry has several of; `several`: it may take further headings."""
    if name in mine:
        several = isinstance(mine[name], AoT)
    else:
        # An entry of its own heading takes further headings; one in a line has to stay in it.
        several = several and isinstance(mine, Table)
        mine[name] = tomlkit.aot() if several else tomlkit.array()
    written = tomlkit.table() if several else tomlkit.inline_table()
    written.update({key: value for key, value in values.items() if value not in (None, "")})
    mine[name].append(written)


def _is_dotted(text: str, entry: str) -> bool:
    """Whether an entry stands as `exemption.some-id.kind = …`, without a heading."""
    heading = re.compile(rf"^\s*\[\s*exemption\s*\.\s*[\"']?{re.escape(entry)}[\"']?\s*\]", re.MULTILINE)
    return heading.search(text) is None


def ended(text: str, entry: Exemption, clock: ZoneInfo, end: datetime) -> str:
    """The register with an entry that ends at an instant; the end that was planned stays noted."""
    document = tomlkit.parse(text)
    table: Any = document["exemption"]
    mine = table[entry.id]
    for place, term in enumerate(entry.in_terms):
        if term.end is not None and term.end <= end:
            continue
        written = mine if place == 0 else mine["term"][place - 1]
        if term.end is not None:
            written["planned-until"] = written["until"]
        written["until"] = _written(end, clock)
    return _with_line_ends_of(text, tomlkit.dumps(document))


def _written(instant: datetime | None, clock: ZoneInfo) -> Any:
    """An instant as TOML has it: a day where it is a midnight of the clock."""
    if instant is None:
        return None
    here = instant.astimezone(clock)
    midnight = (here.hour, here.minute, here.second, here.microsecond) == (0, 0, 0, 0)
    return here.date() if midnight else instant.astimezone(UTC)


def _span(entry: Exemption) -> str | None:
    return span_text(entry.review_every).replace(" ", "") if entry.review_every else None
