"""A report as a letter (RFC 5322): plain text, the same as HTML, and its due dates as a calendar (RFC 5545).

Of very many findings the letter tells the gravest; all are attached as CSV, as long as a mail can hold them.
"""

from __future__ import annotations

import hashlib
from email.headerregistry import Address
from email.message import EmailMessage
from email.policy import SMTP
from email.utils import format_datetime

import polars as pl

from keymallet.core.base.addresses import is_address
from keymallet.core.base.listing import and_more, how_many
from keymallet.core.base.printable import plain
from keymallet.outputs.calendar import due_calendar
from keymallet.reports import csv_table
from keymallet.reports.content import Content, basis, due_in_words, moment, who
from keymallet.reports.registry import Look
from keymallet.reports.templating import filled_in

_NOBODY = "no-reply@keymallet.invalid"
"""Whom a letter is from where nobody is named: its domain is nobody's (RFC 2606)."""
_TABLE = "findings.csv"
MOST = 500
"""So many findings are told in a letter, and are in its calendar."""
MOST_ATTACHED = 20_000
"""So many are attached as CSV, which is about 10 MB: more, and servers refuse the letter."""


def write(content: Content, look: Look) -> bytes:
    """One letter. Raises KeymalletError if the packages for reports are not installed.

    It is to whoever answers for all that is in it, if that is one and has an address.
    """
    letter = EmailMessage(policy=SMTP.clone(cte_type="7bit"))
    letter["Subject"] = subject(content)
    sender = look.sender or _NOBODY
    letter["From"] = Address("Keymallet", addr_spec=sender)
    if mail := address(content):
        letter["To"] = Address(plain(content.findings["answerer"][0] or ""), addr_spec=mail)
    letter["Date"] = format_datetime(look.sent_at or content.at)
    known_as = known_by(content)
    letter["Message-ID"] = f"<{known_as}@{sender.rpartition('@')[2]}>"
    shown, rest = content.findings.head(MOST), _rest(content)
    letter.set_content(_text(content, shown, rest))
    told = {
        "subject": subject(content),
        "whose": _whose(content),
        "shown": list(shown.iter_rows(named=True)),
        "rest": rest,
        "basis": basis(content),
    }
    letter.add_alternative(filled_in("letter.html", told, content, look), subtype="html")
    due = shown.filter(pl.col("due").is_not_null())  # what is exempt, or was not seen, has none
    if due.height:
        calendar = due_calendar(due, content)
        letter.add_attachment(calendar, maintype="text", subtype="calendar", filename="due.ics")
    if MOST < content.findings.height <= MOST_ATTACHED:
        table = b"".join(csv_table.write(content, Look(name=_TABLE, spreadsheet=True)))
        letter.add_attachment(table, maintype="text", subtype="csv", filename=_TABLE)
    # Boundaries of its own, so that the same run gives the same letter.
    for number, part in enumerate(part for part in letter.walk() if part.is_multipart()):
        part.set_boundary(f"={known_as}.{number}")
    return letter.as_bytes()


def address(content: Content) -> str:
    """To whom a letter is: who answers for all that is in it, if that is one with an address; else nobody."""
    whose = content.findings.select("answerer", "answerer-mail").unique()
    mail = str(whose["answerer-mail"][0] or "") if whose.height == 1 else ""
    return mail if is_address(mail) else ""


def known_by(content: Content) -> str:
    """What a letter is known by: the run, and what it is limited to."""
    return hashlib.sha256(f"{content.head}\0{content.narrowed}".encode()).hexdigest()[:32]


def subject(content: Content) -> str:
    """What a letter is about, in a line."""
    number, late = content.broken.height, content.late.height
    overdue = f", {late:,} past due" if late else ""
    return plain(f"{how_many(number, 'finding')} to mend{overdue} ({content.organisation})")


def _whose(content: Content) -> str:
    """Why somebody gets this; empty if it is of several people's."""
    if not address(content):
        return ""
    return f"You get this because you answer for what is listed here ({content.organisation})."


def _rest(content: Content) -> str:
    """Where the findings are that the letter does not tell; empty if there are none."""
    number = content.findings.height - MOST
    if number <= 0:
        return ""
    where = f"{_TABLE}, attached, has all of them" if number + MOST <= MOST_ATTACHED else "ask for them"
    return f"{and_more(number, 'finding').capitalize()}: {where}."


def _text(content: Content, shown: pl.DataFrame, rest: str) -> str:
    lines = [content.verdict(), f"Judged at {moment(content.at, content.clock)}."]
    lines += [said] if (said := _whose(content)) else []
    if content.gaps:
        lines += ["", f"The evidence is incomplete: {'; '.join(content.gaps)}."]
    for row in shown.iter_rows(named=True):
        when = due_in_words(row, content.clock) or row["state"]
        lines += ["", f"{row['severity']}, {when}: {who(row)}", f"  {row['title']}"]
        lines += [f"  why: {row['because']}"] if row["because"] else []
        lines += [f"  to do: {row['change']}"] if row["change"] else []
        lines.append(f"  finding {row['finding-id'][:8]}, rule {row['rule']}")
    lines += ["", rest] if rest else []
    lines += ["", "What it rests on:"]
    lines += [f"  {what}: {value}" for what, value in basis(content)]
    return "\n".join(map(plain, lines)) + "\n"
