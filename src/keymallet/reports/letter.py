"""A report as a letter (RFC 5322), plain text first, with its due dates as a calendar (RFC 5545)."""

from __future__ import annotations

import hashlib
from email.headerregistry import Address
from email.message import EmailMessage
from email.policy import SMTP
from email.utils import format_datetime

from keymallet.core.base.addresses import is_address
from keymallet.core.base.listing import how_many
from keymallet.core.base.printable import plain
from keymallet.outputs.calendar import due_calendar
from keymallet.reports.content import Content, basis, due_in_words, moment, who
from keymallet.reports.registry import Look

_NOBODY = "no-reply@keymallet.invalid"
"""Whom a letter is from where nobody is named: its domain is nobody's (RFC 2606)."""


def write(content: Content, look: Look) -> bytes:
    """One letter. Raises KeymalletError if the package for calendars is not installed.

    It is to whoever answers for all that is in it, if that is one and has an address.
    """
    letter = EmailMessage(policy=SMTP.clone(cte_type="7bit"))
    letter["Subject"] = subject(content)
    sender = look.sender or _NOBODY
    letter["From"] = Address("Keymallet", addr_spec=sender)
    if mail := address(content):
        letter["To"] = Address(plain(content.findings["answerer"][0] or ""), addr_spec=mail)
    letter["Date"] = format_datetime(content.at)
    letter["Message-ID"] = f"<{known_by(content)}@{sender.rpartition('@')[2]}>"
    letter.set_content(_text(content))
    due = content.broken.filter(content.broken["due"].is_not_null())
    if due.height:
        calendar = due_calendar(due, content)
        letter.add_attachment(calendar, maintype="text", subtype="calendar", filename="due.ics")
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


def _text(content: Content) -> str:
    lines = [content.verdict(), f"Judged at {moment(content.at, content.clock)}."]
    if content.gaps:
        lines += ["", f"The evidence is incomplete: {'; '.join(content.gaps)}."]
    for row in content.findings.iter_rows(named=True):
        when = due_in_words(row, content.clock) or row["state"]
        lines += ["", f"{row['severity']}, {when}: {who(row)}", f"  {row['title']}"]
        lines += [f"  why: {row['because']}"] if row["because"] else []
        lines += [f"  to do: {row['change']}"] if row["change"] else []
        lines.append(f"  finding {row['finding-id'][:8]}, rule {row['rule']}")
    lines += ["", "What it rests on:"]
    lines += [f"  {what}: {value}" for what, value in basis(content)]
    return "\n".join(map(plain, lines)) + "\n"
